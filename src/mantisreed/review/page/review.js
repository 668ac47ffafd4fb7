"use strict";
/* The review page: hear, read, correct, save. Plain JavaScript; nothing is fetched from anywhere.

   The text is a list of rows, one a cue. A row is never changed: an edit makes a new one and a new list, so that the
   lists before are all that undoing needs. A row that was not touched points to words of the transcript; one that was
   has its own. */

const data = JSON.parse(document.getElementById("data").textContent);
const rules = data.rules;
const $ = (id) => document.getElementById(id);
const audio = $("audio");

/* ---- words and rows ------------------------------------------------------------------------------------------- */

const passages = data.transcript.passages;

/* One word: its text, start and end in seconds, confidence or null. */
function wordsOf(row) {
  return row.words || passages[row.passage].words.slice(row.first, row.last);
}

function rowOf([passage, first, last, start, end, text]) {
  return { passage, first, last, start, end, text, speaker: passages[passage].speaker ?? null, words: null };
}

const flat = (text) => text.replace(/\s+/g, " ").trim();

/* The words of a row with what stands between them, as pairs [text before, word]; and what stands behind all. */
function partsOf(row) {
  const text = flat(row.text),
    parts = [];
  let at = 0;
  for (const word of wordsOf(row)) {
    const found = text.indexOf(word.text, at);
    const place = found < 0 ? at : found;
    parts.push([text.slice(at, place) || (parts.length && found < 0 ? " " : ""), word]);
    at = found < 0 ? at : place + word.text.length;
  }
  return [parts, text.slice(at)];
}

/* Characters a second of reading, as the layout rules count them: wide signs are two. */
function widthOf(text) {
  let width = 0;
  for (const sign of text)
    width += /[\u1100-\u115f\u2e80-\ua4cf\uac00-\ud7a3\uf900-\ufaff\ufe30-\ufe6f\uff00-\uff60]/.test(sign) ? 2 : 1;
  return width;
}

function speedOf(text, start, end) {
  return widthOf(flat(text)) / Math.max(0.001, end - start);
}

const SPACELESS = /[\u0e00-\u0eff\u1000-\u109f\u1780-\u17ff\u3040-\u30ff\u3400-\u9fff]/;

/* The words of a text as people edit it. */
function tokensOf(text) {
  const spaced = flat(text).split(" ").filter(Boolean);
  if (!SPACELESS.test(text) || !window.Intl || !Intl.Segmenter) return spaced;
  const segmenter = new Intl.Segmenter(data.transcript.language || "ja", { granularity: "word" });
  return spaced.flatMap((part) => {
    const words = [];
    for (const one of segmenter.segment(part)) {
      if (one.isWordLike || !words.length) words.push(one.segment);
      else words[words.length - 1] += one.segment;
    }
    return words;
  });
}

const bare = (text) => text.toLowerCase().replace(/[^\p{L}\p{N}]+/gu, "") || text;

/* The words of a corrected text: those that were there keep their times, others share those of what they replace, or
   stand between their neighbours. */
function retimed(old, tokens, start, end) {
  const rows = old.length + 1,
    columns = tokens.length + 1;
  const best = Array.from({ length: rows }, () => new Uint16Array(columns));
  for (let i = old.length - 1; i >= 0; i--)
    for (let j = tokens.length - 1; j >= 0; j--) {
      const same = bare(old[i].text) === bare(tokens[j]) ? 2 + (old[i].text === tokens[j] ? 1 : 0) : 0;
      best[i][j] = Math.max(same ? same + best[i + 1][j + 1] : 0, best[i + 1][j], best[i][j + 1]);
    }
  const words = [];
  let i = 0,
    j = 0,
    gone = [],
    fresh = [];
  const settle = (next) => {
    if (fresh.length) {
      const left = gone.length ? gone[0].start : words.length ? words[words.length - 1].end : start;
      const right = gone.length ? gone[gone.length - 1].end : next ? next.start : end;
      const total = fresh.reduce((sum, text) => sum + text.length, 0);
      let at = left;
      for (const text of fresh) {
        const until = at + (Math.max(0, right - left) * text.length) / total;
        words.push({ text, start: round(at), end: round(Math.max(at, until)), confidence: null });
        at = until;
      }
    }
    gone = [];
    fresh = [];
  };
  while (i < old.length || j < tokens.length) {
    const same = i < old.length && j < tokens.length && bare(old[i].text) === bare(tokens[j]);
    if (same && best[i][j] === best[i + 1][j + 1] + 2 + (old[i].text === tokens[j] ? 1 : 0)) {
      settle(old[i]);
      words.push(old[i].text === tokens[j] ? old[i] : { ...old[i], text: tokens[j] });
      i++;
      j++;
    } else if (j >= tokens.length || (i < old.length && best[i + 1][j] >= best[i][j + 1])) gone.push(old[i++]);
    else fresh.push(tokens[j++]);
  }
  settle(null);
  return words;
}

const round = (seconds) => Math.round(seconds * 1000) / 1000;

/* ---- state ---------------------------------------------------------------------------------------------------- */

let state = { rows: data.rows.map(rowOf), doubts: data.transcript.doubts || [], touched: false };
let undone = [],
  done = [];
let here = 0,
  cursor = 0,
  editing = null,
  isFollowing = true;

function change(next, about) {
  done.push(state);
  undone = [];
  if (done.length > 500) done.shift();
  state = { ...next, touched: true };
  afterChange(about);
}

function undo() {
  if (!done.length) return say("nothing to undo");
  undone.push(state);
  state = done.pop();
  afterChange("undone");
}

function redo() {
  if (!undone.length) return say("nothing to redo");
  done.push(state);
  state = undone.pop();
  afterChange("done again");
}

function afterChange(about) {
  here = Math.min(here, state.rows.length - 1);
  cursor = 0;
  markSpeakers();
  indexWords();
  indexDoubts();
  measure();
  draw();
  $("undo").disabled = !done.length;
  $("redo").disabled = !undone.length;
  if (about) say(about);
  keepSoon();
}

/* Where nobody tells speakers apart, there is no column for them. */
function markSpeakers() {
  list.classList.toggle("nameless", !state.rows.some((row) => row.speaker));
}

function withRow(at, ...rows) {
  return [...state.rows.slice(0, at), ...rows, ...state.rows.slice(at + 1)];
}

/* Who corrects a stretch has listened to it: doubts about words that changed are settled. */
function settledDoubts(before, after) {
  const kept = new Set(after);
  const gone = before.filter((word) => !kept.has(word));
  if (!gone.length) return state.doubts;
  return state.doubts.filter((doubt) => !gone.some((word) => word.start < doubt.end && word.end > doubt.start));
}

function edited(row, text) {
  const words = retimed(wordsOf(row), tokensOf(text), row.start, row.end);
  return { ...row, words, text: flat(text) };
}

function keepEdit(at, text) {
  const row = state.rows[at];
  if (flat(text) === flat(row.text)) return;
  if (!flat(text)) {
    change({ rows: withRow(at), doubts: settledDoubts(wordsOf(row), []) }, "cue taken out");
    return;
  }
  const next = edited(row, text);
  change({ rows: withRow(at, next), doubts: settledDoubts(wordsOf(row), next.words) }, "changed");
}

function split() {
  const row = state.rows[here],
    words = wordsOf(row);
  if (cursor < 1 || cursor >= words.length) return say("choose the word that the second cue begins with", true);
  const one = portion(row, 0, cursor),
    other = portion(row, cursor, words.length);
  one.end = Math.min(one.end, other.start);
  change({ ...state, rows: withRow(here, one, other) }, "split");
}

/* The words [first, until) of a row, as a row. */
function portion(row, first, until) {
  const [parts, rest] = partsOf(row),
    words = wordsOf(row).slice(first, until),
    isLast = until === parts.length;
  const text = parts
    .slice(first, until)
    .map(([gap, word]) => gap + word.text)
    .join("");
  return {
    ...row,
    words,
    text: flat(text + (isLast ? rest : "")),
    start: first ? words[0].start : row.start,
    end: isLast ? row.end : round(Math.max(words[words.length - 1].end, row.start)),
  };
}

function join() {
  const row = state.rows[here],
    next = state.rows[here + 1];
  if (!next) return say("there is no cue behind this one", true);
  const glue = SPACELESS.test(row.text.slice(-1)) ? "" : " ";
  const one = {
    ...row,
    words: [...wordsOf(row), ...wordsOf(next)],
    text: flat(row.text) + glue + flat(next.text),
    end: next.end,
  };
  change({ ...state, rows: [...state.rows.slice(0, here), one, ...state.rows.slice(here + 2)] }, "joined");
}

function setSpeaker(name, everywhere) {
  const old = state.rows[here].speaker;
  const rows = state.rows.map((row, at) =>
    at === here || (everywhere && row.speaker === old) ? { ...row, speaker: name || null } : row,
  );
  change({ ...state, rows }, "speaker changed");
}

function settleDoubt() {
  const moment = position();
  const near = state.doubts.filter((doubt) => doubt.start - 0.5 <= moment && moment <= doubt.end + 0.5);
  if (!near.length) return say("there is no doubt here", true);
  change({ ...state, doubts: state.doubts.filter((doubt) => !near.includes(doubt)) }, "settled");
}

/* ---- indexes -------------------------------------------------------------------------------------------------- */

let flatWords = []; // [start, row, place in the row], by start

function indexWords() {
  flatWords = [];
  state.rows.forEach((row, at) => wordsOf(row).forEach((word, place) => flatWords.push([word.start, at, place])));
  flatWords.sort((one, other) => one[0] - other[0]);
}

let doubtsByTime = [];

function indexDoubts() {
  doubtsByTime = state.doubts
    .filter((doubt) => doubt.grade >= data.worth)
    .sort((one, other) => one.start - other.start);
  $("doubt-count").textContent = doubtsByTime.length === 1 ? "1 doubt" : `${doubtsByTime.length} doubts`;
}

/* The place of the last entry that is not behind a value. */
function lastBefore(list, value, of) {
  let low = 0,
    high = list.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (of(list[middle]) <= value) low = middle + 1;
    else high = middle;
  }
  return low - 1;
}

function doubtsAt(start, end) {
  const until = lastBefore(doubtsByTime, end, (doubt) => doubt.start);
  const found = [];
  for (let at = until; at >= 0 && at > until - 200; at--)
    if (doubtsByTime[at].end > start) found.push(doubtsByTime[at]);
  return found;
}

/* ---- only what is seen is drawn -------------------------------------------------------------------------------- */

const scroller = $("scroller"),
  list = $("rows");
let heights = new Float64Array(0),
  tops = new Float64Array(0),
  known = new WeakMap();

function guess(row) {
  const columns = Math.max(20, Math.min(list.clientWidth || 900, 992) / 9 - (list.clientWidth < 700 ? 4 : 32));
  return 18 + 24 * Math.max(1, Math.ceil(row.text.length / columns)) + (list.clientWidth < 700 ? 26 : 0);
}

function measure() {
  const count = state.rows.length;
  heights = new Float64Array(count);
  for (let at = 0; at < count; at++) heights[at] = known.get(state.rows[at]) || guess(state.rows[at]);
  stack();
}

function stack() {
  tops = new Float64Array(heights.length + 1);
  for (let at = 0; at < heights.length; at++) tops[at + 1] = tops[at] + heights[at];
}

let shown = new Map(); // by row its element
const spaceAbove = document.createElement("li"),
  spaceBelow = document.createElement("li");
for (const space of [spaceAbove, spaceBelow]) {
  space.className = "space";
  space.setAttribute("role", "presentation");
  space.setAttribute("aria-hidden", "true");
}
list.append(spaceAbove, spaceBelow);

function draw() {
  drawRows();
  drawOverview();
  drawDetail();
}

function drawRows() {
  const top = scroller.scrollTop,
    bottom = top + scroller.clientHeight;
  let first = Math.max(0, lastBefore(tops, top, (value) => value) - 4);
  let last = Math.min(state.rows.length, lastBefore(tops, bottom, (value) => value) + 5);
  if (editing !== null) {
    first = Math.min(first, editing);
    last = Math.max(last, editing + 1);
  }
  const wanted = new Map();
  let before = spaceAbove;
  for (let at = first; at < last; at++) {
    const row = state.rows[at];
    let element = shown.get(row);
    const key = `${at === here}|${at === here ? cursor : ""}|${editing === at}|${state.doubts.length}|${at}|${state.rows.length}`;
    if (!element || element.dataset.key !== key) {
      const isFocused = element && element.contains(document.activeElement);
      const fresh = elementOf(row, at);
      fresh.dataset.key = key;
      if (element) element.replaceWith(fresh);
      element = fresh;
      if (isFocused && editing !== at && at === here) element.focus({ preventScroll: true });
    }
    if (before.nextSibling !== element) before.after(element);
    wanted.set(row, element);
    before = element;
  }
  for (const [row, element] of shown) {
    if (wanted.get(row) === element) continue;
    // Whoever scrolls away from the row with the focus stays in the text.
    if (element.contains(document.activeElement)) scroller.focus({ preventScroll: true });
    element.remove();
  }
  shown = wanted;
  spaceAbove.style.height = `${tops[first] || 0}px`;
  spaceBelow.style.height = `${Math.max(0, tops[state.rows.length] - tops[last])}px`;
  let moved = 0,
    changed = false;
  for (let at = first; at < last; at++) {
    const height = shown.get(state.rows[at]).offsetHeight;
    if (Math.abs(height - heights[at]) > 0.5 && height) {
      if (tops[at] < top) moved += height - heights[at];
      heights[at] = height;
      known.set(state.rows[at], height);
      changed = true;
    }
  }
  if (changed) {
    stack();
    spaceAbove.style.height = `${tops[first] || 0}px`;
    spaceBelow.style.height = `${Math.max(0, tops[state.rows.length] - tops[last])}px`;
    if (Math.abs(moved) > 1) scroller.scrollTop += moved;
  }
  markNow();
}

function elementOf(row, at) {
  const element = document.createElement("li");
  element.className = at === here ? "row here" : "row";
  element.tabIndex = at === here ? 0 : -1;
  element.dataset.at = at;
  element.setAttribute("aria-setsize", state.rows.length);
  element.setAttribute("aria-posinset", at + 1);
  if (at === here) element.setAttribute("aria-current", "true");
  const time = document.createElement("button");
  time.className = "time";
  time.type = "button";
  time.tabIndex = -1;
  time.textContent = clock(row.start);
  time.setAttribute("aria-label", `Hear from ${clock(row.start)}`);
  time.addEventListener("click", () => {
    choose(at, 0);
    seek(row.start);
    play();
  });
  const who = document.createElement("span");
  who.className = "who";
  who.textContent = row.speaker || "";
  element.append(time, who);
  if (editing === at) element.append(...editorOf(row, at));
  else {
    const text = document.createElement("div");
    text.className = "text";
    text.dir = data.direction;
    if (data.transcript.language) text.lang = data.transcript.language;
    const [parts, rest] = partsOf(row);
    parts.forEach(([gap, word], place) => {
      if (gap) text.append(gap);
      const span = document.createElement("span");
      span.className = "word";
      span.textContent = word.text;
      span.dataset.place = place;
      const doubts = doubtsAt(word.start, word.end).filter(
        (doubt) =>
          doubt.kind !== "missing" &&
          doubt.start <= (word.start + word.end) / 2 &&
          doubt.end >= (word.start + word.end) / 2,
      );
      if (doubts.length) {
        span.classList.add("doubt");
        span.title = doubts.map((doubt) => `${doubt.kind}: ${doubt.why}`).join("; ");
      }
      if (at === here && place === cursor) span.classList.add("cursor");
      text.append(span);
    });
    text.append(rest);
    element.append(text);
    const speed = document.createElement("span");
    speed.className = "speed";
    showSpeed(speed, row.text, row);
    element.append(speed);
  }
  const next = state.rows[at + 1];
  for (const doubt of doubtsAt(row.start, next ? next.start : data.duration)) {
    if (doubt.kind !== "missing" || doubt.start < row.start || (next && doubt.start >= next.start)) continue;
    const note = document.createElement("button");
    note.className = "gap-note";
    note.type = "button";
    note.tabIndex = -1;
    note.textContent = `${clock(doubt.start)} ${doubt.why}`;
    note.addEventListener("click", () => {
      seek(doubt.start);
      play();
    });
    element.append(note);
  }
  return element;
}

function showSpeed(element, text, row) {
  const speed = speedOf(text, row.start, row.end),
    isFast = speed > rules.max_cps * 1.001;
  element.textContent = `${speed.toFixed(1)}/s${isFast ? " fast" : ""}`;
  element.title = `${speed.toFixed(1)} characters a second, at most ${rules.max_cps}`;
  element.classList.toggle("bad", isFast);
}

function editorOf(row, at) {
  const box = document.createElement("div");
  box.className = "editor";
  const area = document.createElement("textarea");
  area.value = flat(row.text);
  area.dir = data.direction;
  area.spellcheck = true;
  area.setAttribute("aria-label", `Text of the cue at ${clock(row.start)}`);
  if (data.transcript.language) area.lang = data.transcript.language;
  const about = document.createElement("div");
  about.className = "editing";
  about.setAttribute("role", "status");
  const tell = () => {
    const speed = speedOf(area.value, row.start, row.end);
    const width = widthOf(flat(area.value)),
      most = rules.line_length * rules.lines;
    about.textContent = `${speed.toFixed(1)} characters a second of ${rules.max_cps}; ${width} of ${most} characters`;
    about.className = speed > rules.max_cps * 1.001 || width > most ? "editing speed bad" : "editing";
  };
  area.addEventListener("input", tell);
  area.addEventListener("keydown", (event) => {
    if (event.key === "Enter" && !event.shiftKey && !event.isComposing) {
      event.preventDefault();
      endEdit(true);
    } else if (event.key === "Escape") {
      event.preventDefault();
      event.stopPropagation();
      endEdit(false);
    }
  });
  area.addEventListener("blur", () => {
    if (editing === at && document.hasFocus()) endEdit(true, false);
  });
  tell();
  box.append(area, about, ...readingsOf(row, area, tell));
  const speed = document.createElement("span");
  speed.className = "speed";
  return [box, speed];
}

/* Other readings of the passage, as buttons: one is taken where the cue is the whole passage. */
function readingsOf(row, area, tell) {
  const readings = data.readings[row.passage] ?? [];
  if (!readings.length) return [];
  const origin = passages[row.passage];
  const isWhole = !row.words && row.first === 0 && row.last === origin.words.length;
  const list = document.createElement("ol");
  list.className = "readings";
  list.setAttribute("aria-label", "Other readings of the passage");
  for (const reading of readings) {
    const item = document.createElement("li");
    const choice = document.createElement(isWhole ? "button" : "span");
    choice.textContent = reading;
    if (isWhole) {
      choice.type = "button";
      choice.title = "Take this reading";
      // The text keeps the focus: without it, the edit would end.
      choice.addEventListener("mousedown", (event) => event.preventDefault());
      choice.addEventListener("click", () => {
        area.value = reading;
        tell();
        area.focus();
      });
    }
    item.append(choice);
    list.append(item);
  }
  return [list];
}

function beginEdit(at) {
  if (editing !== null) endEdit(true, false);
  choose(at, cursor);
  editing = at;
  drawRows();
  reveal(at);
  const area = shown.get(state.rows[at])?.querySelector("textarea");
  if (area) {
    area.focus();
    area.setSelectionRange(area.value.length, area.value.length);
  }
}

function endEdit(isKept, isFocused = true) {
  const at = editing;
  if (at === null) return;
  const text = shown.get(state.rows[at])?.querySelector("textarea")?.value ?? state.rows[at].text;
  editing = null;
  if (isKept) keepEdit(at, text);
  else say("left as it was");
  drawRows();
  if (isFocused) focusRow();
}

function focusRow() {
  shown.get(state.rows[here])?.focus({ preventScroll: true });
}

function choose(at, place) {
  here = Math.max(0, Math.min(at, state.rows.length - 1));
  cursor = Math.max(0, place);
  drawRows();
}

function reveal(at) {
  const top = tops[at],
    bottom = tops[at + 1],
    view = scroller.clientHeight;
  if (top < scroller.scrollTop || bottom > scroller.scrollTop + view)
    scroller.scrollTop = Math.max(0, top - view / 3);
  drawRows();
}

/* ---- sound ---------------------------------------------------------------------------------------------------- */

let hasSound = false,
  pending = null;

function position() {
  return hasSound ? audio.currentTime : (pending ?? 0);
}

function loadSound() {
  const encoded = $("sound").textContent.trim();
  if (encoded) {
    const binary = atob(encoded),
      bytes = new Uint8Array(binary.length);
    for (let at = 0; at < binary.length; at++) bytes[at] = binary.charCodeAt(at);
    $("sound").textContent = "";
    useSound(URL.createObjectURL(new Blob([bytes], { type: data.sound_type })), false);
  } else if (data.sound_url) useSound(data.sound_url, false);
  else $("choose").hidden = false;
}

function useSound(url, isChosen) {
  audio.addEventListener(
    "loadedmetadata",
    () => {
      const lasts = audio.duration;
      if (Number.isFinite(lasts) && Math.abs(lasts - data.duration) > Math.max(1.5, data.duration * 0.01)) {
        say(
          `this recording lasts ${clock(lasts)}, and the transcript is of one that lasts ${clock(data.duration)}: it is another one`,
          true,
        );
        if (isChosen) {
          audio.removeAttribute("src");
          audio.load();
          hasSound = false;
          return;
        }
      } else if (isChosen) {
        $("choose").hidden = true;
        say("the recording is here");
      }
      hasSound = true;
      if (pending !== null) {
        audio.currentTime = pending;
        pending = null;
      }
    },
    { once: true },
  );
  audio.addEventListener(
    "error",
    () => {
      if (audio.getAttribute("src")) {
        hasSound = false;
        say("this browser cannot play the recording", true);
      }
    },
    { once: true },
  );
  audio.src = url;
}

function seek(seconds) {
  const moment = Math.max(0, Math.min(seconds, data.duration));
  if (hasSound) audio.currentTime = moment;
  else pending = moment;
  draw();
  showClock();
}

function play() {
  if (!hasSound) return say("there is no recording to hear", true);
  audio.play().catch((error) => {
    if (error.name !== "AbortError") say(`cannot play: ${error.message}`, true);
  });
}

function toggle() {
  if (audio.paused) play();
  else audio.pause();
}

function setRate(by) {
  audio.playbackRate = Math.max(0.5, Math.min(2, Math.round((audio.playbackRate + by) * 10) / 10));
  $("rate").textContent = `${audio.playbackRate.toFixed(1)}×`;
}

function nextDoubt(step) {
  if (!doubtsByTime.length) return say("there are no doubts");
  const moment = position();
  let at =
    step > 0
      ? lastBefore(doubtsByTime, moment + 0.25, (doubt) => doubt.start) + 1
      : lastBefore(doubtsByTime, moment - 0.25, (doubt) => doubt.start);
  at = (at + doubtsByTime.length) % doubtsByTime.length;
  const doubt = doubtsByTime[at];
  goTo(doubt.start);
  say(`doubt ${at + 1} of ${doubtsByTime.length}: ${doubt.kind}: ${doubt.why}`);
}

/* To the word that is said at a moment, or the one behind it. */
function goTo(moment) {
  let at = lastBefore(flatWords, moment + 0.001, (entry) => entry[0]);
  const inside = at >= 0 && wordsOf(state.rows[flatWords[at][1]])[flatWords[at][2]].end > moment;
  if (!inside && at + 1 < flatWords.length && at < 0) at = 0;
  if (at >= 0) {
    choose(flatWords[at][1], flatWords[at][2]);
    reveal(here);
  }
  seek(moment);
}

let nowElement = null;

function markNow() {
  const moment = position(),
    at = lastBefore(flatWords, moment + 0.02, (entry) => entry[0]);
  nowElement?.classList.remove("now");
  nowElement = null;
  if (at < 0) return null;
  const [, row, place] = flatWords[at];
  const word = wordsOf(state.rows[row])[place];
  if (moment > word.end + 0.3) return row;
  nowElement = shown.get(state.rows[row])?.querySelector(`[data-place="${place}"]`) ?? null;
  nowElement?.classList.add("now");
  return row;
}

function tick() {
  showClock();
  const row = markNow();
  if (
    row !== null &&
    isFollowing &&
    editing === null &&
    !audio.paused &&
    (tops[row] < scroller.scrollTop || tops[row + 1] > scroller.scrollTop + scroller.clientHeight)
  ) {
    scroller.scrollTop = Math.max(0, tops[row] - scroller.clientHeight / 3);
    isFollowing = true;
  }
  drawOverview();
  drawDetail();
  if (!audio.paused) requestAnimationFrame(tick);
}

function showClock() {
  $("clock").textContent = `${clock(position())} of ${clock(data.duration)}`;
  $("overview").setAttribute("aria-valuenow", Math.round(position()));
  $("overview").setAttribute("aria-valuetext", clock(position()));
}

function clock(seconds) {
  const whole = Math.floor(Math.max(0, seconds)),
    tenths = Math.floor((Math.max(0, seconds) - whole) * 10);
  const pad = (number) => String(number).padStart(2, "0");
  const minutes = Math.floor(whole / 60) % 60,
    hours = Math.floor(whole / 3600);
  return hours ? `${hours}:${pad(minutes)}:${pad(whole % 60)}.${tenths}` : `${minutes}:${pad(whole % 60)}.${tenths}`;
}

/* ---- waveform ------------------------------------------------------------------------------------------------- */

const peaks = Uint8Array.from(atob(data.peaks), (sign) => sign.charCodeAt(0));
const PER_SECOND = data.peaks_per_second,
  SPAN = 12; // seconds that are seen in detail
const speech = [];
data.pauses_and_speech.reduce((at, length, number) => {
  if (number % 2) speech.push([at / 100, (at + length) / 100]);
  return at + length;
}, 0);

function canvasOf(id) {
  const canvas = $(id),
    ratio = window.devicePixelRatio || 1;
  const width = Math.round(canvas.clientWidth * ratio),
    height = Math.round(canvas.clientHeight * ratio);
  if (canvas.width !== width || canvas.height !== height) {
    canvas.width = width;
    canvas.height = height;
  }
  return [canvas.getContext("2d"), width, height, ratio];
}

let colours = null;

function colour(name) {
  if (!colours) {
    const style = getComputedStyle(document.documentElement);
    colours = Object.fromEntries(
      ["ink", "wave", "speech", "doubt", "doubt-ink", "accent", "quiet", "line", "paper"].map((one) => [
        one,
        style.getPropertyValue(`--${one}`).trim(),
      ]),
    );
  }
  return colours[name];
}

let overviewImage = null;

function drawOverview() {
  const [pen, width, height, ratio] = canvasOf("overview");
  const key = `${width}|${height}|${state.doubts.length}|${colour("wave")}`;
  if (overviewImage?.key !== key) {
    const image = document.createElement("canvas");
    image.width = width;
    image.height = height;
    const back = image.getContext("2d");
    back.fillStyle = colour("speech");
    for (const [start, end] of speech)
      back.fillRect((start / data.duration) * width, 0, Math.max(1, ((end - start) / data.duration) * width), height);
    drawPeaks(back, 0, data.duration, width, height);
    back.fillStyle = colour("doubt-ink");
    for (const doubt of doubtsByTime)
      back.fillRect(
        (doubt.start / data.duration) * width,
        0,
        Math.max(2 * ratio, ((doubt.end - doubt.start) / data.duration) * width),
        5 * ratio,
      );
    overviewImage = { key, image };
  }
  pen.clearRect(0, 0, width, height);
  pen.drawImage(overviewImage.image, 0, 0);
  pen.fillStyle = colour("accent");
  pen.fillRect((position() / data.duration) * width - ratio, 0, 2 * ratio, height);
}

function drawPeaks(pen, start, end, width, height) {
  pen.fillStyle = colour("wave");
  for (let x = 0; x < width; x++) {
    const first = Math.floor((start + ((end - start) * x) / width) * PER_SECOND);
    const last = Math.max(first + 1, Math.floor((start + ((end - start) * (x + 1)) / width) * PER_SECOND));
    let most = 0;
    for (let at = Math.max(0, first); at < Math.min(last, peaks.length); at++) most = Math.max(most, peaks[at]);
    const tall = (most / 255) * height * 0.92;
    pen.fillRect(x, (height - tall) / 2, 1, Math.max(1, tall));
  }
}

function drawDetail() {
  const [pen, width, height, ratio] = canvasOf("detail");
  const start = Math.max(0, Math.min(position() - SPAN / 3, data.duration - SPAN)),
    end = start + SPAN;
  const x = (seconds) => ((seconds - start) / SPAN) * width;
  pen.clearRect(0, 0, width, height);
  pen.fillStyle = colour("speech");
  for (
    let at = Math.max(
      0,
      lastBefore(speech, start, (one) => one[0]),
    );
    at < speech.length && speech[at][0] < end;
    at++
  )
    pen.fillRect(x(speech[at][0]), 0, x(speech[at][1]) - x(speech[at][0]), height);
  pen.fillStyle = colour("doubt");
  for (const doubt of doubtsAt(start, end))
    pen.fillRect(x(doubt.start), 0, Math.max(3, x(doubt.end) - x(doubt.start)), height);
  drawPeaks(pen, start, end, width, height);
  pen.font = `${12 * ratio}px system-ui, sans-serif`;
  pen.textBaseline = "bottom";
  pen.textAlign = "left";
  pen.direction = data.direction;
  let at = Math.max(0, lastBefore(state.rows, start, (row) => row.start) - 1);
  let isAbove = false;
  for (; at < state.rows.length && state.rows[at].start < end; at++) {
    const row = state.rows[at];
    pen.strokeStyle = at === here ? colour("accent") : colour("quiet");
    pen.lineWidth = (at === here ? 2 : 1) * ratio;
    pen.strokeRect(x(row.start), 2 * ratio, x(row.end) - x(row.start), height - 4 * ratio);
    pen.save();
    pen.beginPath();
    pen.rect(x(row.start), 0, x(row.end) - x(row.start), height);
    pen.clip();
    pen.fillStyle = colour("ink");
    // Of two who speak at once, each has a line of its own.
    isAbove = at > 0 && state.rows[at - 1].end > row.start + 0.2 && !isAbove;
    pen.fillText(flat(row.text), Math.max(x(row.start), 0) + 4 * ratio, isAbove ? 18 * ratio : height - 4 * ratio);
    pen.restore();
  }
  pen.fillStyle = colour("accent");
  pen.fillRect(x(position()) - ratio, 0, 2 * ratio, height);
  $("detail").dataset.start = start;
}

/* ---- saving --------------------------------------------------------------------------------------------------- */

/* Passages of the rows: those of one passage and speaker that stand together are one. */
function savedPassages() {
  const saved = [];
  let group = [];
  const close = () => {
    if (!group.length) return;
    const origin = passages[group[0].passage];
    const isWhole =
      group.every((row) => !row.words) &&
      group[0].first === 0 &&
      group[group.length - 1].last === origin.words.length &&
      group[0].speaker === (origin.speaker ?? null);
    if (isWhole) saved.push(origin);
    else {
      const words = group.flatMap(wordsOf);
      const glue = SPACELESS.test(group[0].text.slice(-1)) ? "" : " ";
      saved.push({
        start: words[0].start,
        end: Math.max(...words.map((word) => word.end)),
        text: group.map((row) => flat(row.text)).join(glue),
        speaker: group[0].speaker,
        timing: origin.timing,
        words: words.map((word) => ({ ...word, confidence: word.confidence ?? null })),
        alternatives: [],
      });
    }
    group = [];
  };
  for (const row of state.rows) {
    if (!wordsOf(row).length) continue;
    const last = group[group.length - 1];
    if (last && (last.passage !== row.passage || last.speaker !== row.speaker)) close();
    group.push(row);
  }
  close();
  return saved;
}

function savedTranscript() {
  const saved = savedPassages();
  const speakers = [
    ...new Set(
      saved.map((passage) => passage.speaker).filter((speaker) => speaker !== null && speaker !== undefined),
    ),
  ];
  const notes = state.touched
    ? [...data.transcript.notes.filter((note) => note !== data.note), data.note]
    : data.transcript.notes;
  return { ...data.transcript, speakers, passages: saved, doubts: state.doubts, notes };
}

/* The lines of a cue: as it was laid out, or broken where its halves are most alike, rather behind punctuation. */
function linesOf(row) {
  if (!row.words || row.text.includes("\n")) return row.text;
  const text = flat(row.text);
  if (widthOf(text) <= rules.line_length || rules.lines < 2) return text;
  let best = null;
  for (const match of text.matchAll(/ /g)) {
    const left = text.slice(0, match.index),
      right = text.slice(match.index + 1);
    const over = Math.max(0, widthOf(left) - rules.line_length) + Math.max(0, widthOf(right) - rules.line_length);
    const cost = 100 * over + Math.abs(widthOf(left) - widthOf(right)) - (/[.,;:!?…]$/.test(left) ? 12 : 0);
    if (!best || cost < best[0]) best = [cost, `${left}\n${right}`];
  }
  return best ? best[1] : text;
}

function stamp(seconds, comma) {
  const ms = Math.round(seconds * 1000),
    pad = (number, digits = 2) => String(number).padStart(digits, "0");
  return `${pad(Math.floor(ms / 3600000))}:${pad(Math.floor(ms / 60000) % 60)}:${pad(Math.floor(ms / 1000) % 60)}${comma}${pad(ms % 1000, 3)}`;
}

function savedSrt() {
  const cues = state.rows.filter((row) => flat(row.text)).sort((one, other) => one.start - other.start);
  return cues
    .map((row, at) => `${at + 1}\n${stamp(row.start, ",")} --> ${stamp(row.end, ",")}\n${linesOf(row)}\n\n`)
    .join("");
}

function savedVtt() {
  const escaped = (text) => text.replace(/&/g, "&amp;").replace(/</g, "&lt;").replace(/>/g, "&gt;");
  const cues = state.rows.filter((row) => flat(row.text)).sort((one, other) => one.start - other.start);
  const voice = (row) => (row.speaker ? `<v ${escaped(row.speaker).replace(/[\r\n]/g, " ")}>` : "");
  return (
    "WEBVTT\n\n" +
    cues
      .map((row) => `${stamp(row.start, ".")} --> ${stamp(row.end, ".")}\n${voice(row)}${escaped(linesOf(row))}\n\n`)
      .join("")
  );
}

function download(name, content, type) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([content], { type }));
  link.download = name;
  document.body.append(link);
  link.click();
  link.remove();
  setTimeout(() => URL.revokeObjectURL(link.href), 10000);
  say(`saved as ${name}`);
}

/* Somebody else has saved meanwhile: the page begins anew with their text, and lays these corrections over it. */
function loadNewer() {
  keep();
  if (isKept) return location.reload();
  say("not saved: somebody else has saved meanwhile; download the transcript to keep these corrections", true);
}

async function saveServed() {
  const saved = state;
  try {
    const answer = await fetch(data.save_url, {
      method: "PUT",
      headers: { "Content-Type": "application/json", "If-Match": base.version },
      body: JSON.stringify(savedTranscript()),
    });
    if (answer.status === 412) return loadNewer();
    const told = await answer.json().catch(() => ({}));
    if (!answer.ok) throw new Error(told.detail || told.title || `the server says ${answer.status}`);
    say(`saved: ${told.files.join(", ")}`);
    savedState = saved;
    Object.assign(base, { rows: saved.rows, doubts: saved.doubts, version: answer.headers.get("ETag") });
    keep();
    $("save-dialog").close();
  } catch (error) {
    say(`not saved: ${error.message}`, true);
  }
}

let savedState = state;

/* ---- finding -------------------------------------------------------------------------------------------------- */

function finder() {
  const text = $("find-text").value;
  if (!text) return null;
  return new RegExp(
    text.replace(/[.*+?^${}()|[\]\\]/g, "\\$&").replace(/ +/g, "\\s+"),
    $("find-case").checked ? "gu" : "giu",
  );
}

function findNext() {
  const pattern = finder();
  if (!pattern) return say("nothing to find", true);
  for (let step = 1; step <= state.rows.length; step++) {
    const at = (here + step) % state.rows.length;
    pattern.lastIndex = 0;
    const match = pattern.exec(flat(state.rows[at].text));
    if (!match) continue;
    const place = lastBefore(placesOf(state.rows[at]), match.index, (value) => value);
    choose(at, Math.max(0, place));
    reveal(at);
    const word = wordsOf(state.rows[at])[Math.max(0, place)];
    if (word) seek(word.start);
    return say(`found at ${clock(state.rows[at].start)}`);
  }
  say("not found", true);
}

function placesOf(row) {
  let at = 0;
  return partsOf(row)[0].map(([gap, word]) => {
    const place = at + gap.length;
    at = place + word.text.length;
    return place;
  });
}

function replace(isAll) {
  const pattern = finder();
  if (!pattern) return say("nothing to find", true);
  const by = $("replace-text").value;
  let count = 0,
    doubts = state.doubts;
  const rows = state.rows.flatMap((row, at) => {
    if (!isAll && at !== here) return [row];
    const text = flat(row.text).replace(pattern, () => {
      count++;
      return by;
    });
    if (text === flat(row.text)) return [row];
    const next = flat(text) ? [edited(row, text)] : [];
    const before = wordsOf(row),
      kept = new Set(next.flatMap(wordsOf));
    const gone = before.filter((word) => !kept.has(word));
    doubts = doubts.filter((doubt) => !gone.some((word) => word.start < doubt.end && word.end > doubt.start));
    return next;
  });
  if (!count) return isAll ? say("not found", true) : findNext();
  change({ rows, doubts }, count === 1 ? "1 replaced" : `${count} replaced`);
  if (!isAll) findNext();
}

/* ---- keys and buttons ----------------------------------------------------------------------------------------- */

function say(text, isBad = false) {
  $("message").textContent = text;
  $("message").classList.toggle("bad", isBad);
}

function showFind() {
  const panel = $("find-panel");
  panel.hidden = false;
  $("find").setAttribute("aria-expanded", "true");
  $("find-text").focus();
  $("find-text").select();
}

function hideFind() {
  $("find-panel").hidden = true;
  $("find").setAttribute("aria-expanded", "false");
  focusRow();
}

function askSpeaker() {
  $("speaker-name").value = state.rows[here].speaker || "";
  $("speakers").replaceChildren(
    ...[...new Set(state.rows.map((row) => row.speaker).filter(Boolean))].map((name) => new Option(name, name)),
  );
  $("speaker-all").checked = false;
  $("speaker-dialog").showModal();
}

const KEYS = {
  " ": toggle,
  b: () => seek(position() - 3),
  s: () => setRate(-0.1),
  f: () => setRate(0.1),
  n: () => nextDoubt(1),
  p: () => nextDoubt(-1),
  d: settleDoubt,
  k: split,
  j: join,
  c: askSpeaker,
  "?": () => $("help-dialog").showModal(),
  Enter: () => beginEdit(here),
  e: () => beginEdit(here),
  ArrowDown: () => moveRow(1),
  ArrowUp: () => moveRow(-1),
  ArrowRight: () => moveWord(data.direction === "rtl" ? -1 : 1),
  // To the left is on where a script runs that way.
  ArrowLeft: () => moveWord(data.direction === "rtl" ? 1 : -1),
  PageDown: () => movePage(1),
  PageUp: () => movePage(-1),
  Home: () => moveRow(-here),
  End: () => moveRow(state.rows.length - 1 - here),
};

function moveRow(step) {
  choose(here + step, 0);
  reveal(here);
  focusRow();
  if (audio.paused) seek(state.rows[here].start);
}

/* As many rows on as are seen at once. */
function movePage(step) {
  const view = scroller.clientHeight * 0.9,
    at = lastBefore(tops, tops[here] + step * view, (value) => value);
  moveRow(Math.max(0, Math.min(at, state.rows.length - 1)) - here || step);
}

function moveWord(step) {
  const words = wordsOf(state.rows[here]);
  cursor = Math.max(0, Math.min(cursor + step, words.length - 1));
  drawRows();
  if (words[cursor] && audio.paused) seek(words[cursor].start);
}

document.addEventListener("keydown", (event) => {
  const target = event.target,
    isText = target.matches("textarea, input[type=text]");
  if (document.querySelector("dialog[open]")) return;
  if (event.ctrlKey || event.metaKey) {
    const keys = {
      z: () => (event.shiftKey ? redo() : undo()),
      y: redo,
      f: showFind,
      s: () => $("save-dialog").showModal(),
      b: () => seek(position() - 3),
      " ": toggle,
    };
    const act = keys[event.key.toLowerCase()];
    // While a text is edited, undoing is the text's own.
    if (!act || (isText && "zy".includes(event.key.toLowerCase()))) return;
    event.preventDefault();
    act();
    return;
  }
  if (event.altKey || event.isComposing) return;
  if (isText) {
    if (event.key === "Escape" && target.closest("#find-panel")) hideFind();
    return;
  }
  if (target.id === "overview" && /^Arrow|^Page|^Home|^End/.test(event.key)) {
    const by = { ArrowRight: 5, ArrowUp: 5, ArrowLeft: -5, ArrowDown: -5, PageUp: 60, PageDown: -60 }[event.key];
    event.preventDefault();
    return goTo(event.key === "Home" ? 0 : event.key === "End" ? data.duration : position() + by);
  }
  if ((event.key === " " || event.key === "Enter") && target.matches("button, input, select, summary")) return;
  const act = KEYS[event.key.length === 1 ? event.key.toLowerCase() : event.key];
  if (act) {
    event.preventDefault();
    act();
  }
});

list.addEventListener("click", (event) => {
  const row = event.target.closest(".row"),
    word = event.target.closest(".word");
  if (!row || event.target.closest("textarea, button")) return;
  if (editing !== null) endEdit(true, false);
  const at = Number(row.dataset.at);
  choose(at, word ? Number(word.dataset.place) : 0);
  focusRow();
  if (word) {
    const said = wordsOf(state.rows[at])[cursor];
    if (said) {
      seek(said.start);
      if (hasSound) play();
    }
  }
});
list.addEventListener("dblclick", (event) => {
  const row = event.target.closest(".row");
  if (row && !event.target.closest("textarea, button")) {
    audio.pause();
    beginEdit(Number(row.dataset.at));
  }
});
// Between pressing a button of the mouse and letting it go nothing is drawn anew: the click would miss its word.
let isPointing = false;
list.addEventListener("pointerdown", () => {
  isPointing = true;
});
addEventListener("pointerup", () => {
  isPointing = false;
});
list.addEventListener("focusin", (event) => {
  const row = event.target.closest(".row");
  if (row && !isPointing && editing === null && Number(row.dataset.at) !== here) choose(Number(row.dataset.at), 0);
});

function clicked(id, act) {
  $(id).addEventListener("click", act);
}
clicked("play", toggle);
clicked("back", () => seek(position() - 3));
clicked("slower", () => setRate(-0.1));
clicked("faster", () => setRate(0.1));
clicked("next-doubt", () => nextDoubt(1));
clicked("undo", undo);
clicked("redo", redo);
clicked("find", () => ($("find-panel").hidden ? showFind() : hideFind()));
clicked("find-next", findNext);
clicked("replace-one", () => replace(false));
clicked("replace-all", () => replace(true));
clicked("help", () => $("help-dialog").showModal());
clicked("help-close", () => $("help-dialog").close());
clicked("save", () => {
  if (editing !== null) endEdit(true, false);
  $("save-dialog").showModal();
});
clicked("save-close", () => $("save-dialog").close());
clicked("save-served", saveServed);
clicked("save-json", () => {
  download(`${data.stem}.transcript.json`, JSON.stringify(savedTranscript(), null, 1) + "\n", "application/json");
  savedState = state;
});
clicked("save-srt", () => download(`${data.stem}.srt`, savedSrt(), "application/x-subrip"));
clicked("save-vtt", () => download(`${data.stem}.vtt`, savedVtt(), "text/vtt"));
clicked("speaker-close", () => $("speaker-dialog").close());
clicked("speaker-set", () => {
  $("speaker-dialog").close();
  setSpeaker(flat($("speaker-name").value), $("speaker-all").checked);
  focusRow();
});
$("find-text").addEventListener("keydown", (event) => {
  if (event.key === "Enter") {
    event.preventDefault();
    findNext();
  }
});
$("file").addEventListener("change", () => {
  const file = $("file").files[0];
  if (file) useSound(URL.createObjectURL(file), true);
});
$("overview").addEventListener("click", (event) => goTo((event.offsetX / event.target.clientWidth) * data.duration));
$("detail").addEventListener("click", (event) =>
  goTo(Number($("detail").dataset.start) + (event.offsetX / event.target.clientWidth) * SPAN),
);
audio.addEventListener("play", () => {
  $("play").textContent = "Pause";
  isFollowing = true;
  requestAnimationFrame(tick);
});
audio.addEventListener("pause", () => {
  $("play").textContent = "Play";
  tick();
});
audio.addEventListener("seeked", () => {
  markNow();
  drawOverview();
  drawDetail();
  showClock();
});
let isScrolling = false;
scroller.addEventListener(
  "scroll",
  () => {
    if (isScrolling) return;
    isScrolling = true;
    requestAnimationFrame(() => {
      isScrolling = false;
      drawRows();
    });
  },
  { passive: true },
);
scroller.addEventListener(
  "wheel",
  () => {
    isFollowing = false;
  },
  { passive: true },
);
let lastWidth = 0;
new ResizeObserver(() => {
  if (list.clientWidth !== lastWidth) {
    lastWidth = list.clientWidth;
    known = new WeakMap();
    measure();
  }
  draw();
}).observe(scroller);
matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => {
  colours = null;
  overviewImage = null;
  draw();
});
addEventListener("beforeunload", (event) => {
  keep();
  if (state !== savedState && !isKept) event.preventDefault();
});
