
/* ---- corrections that are not saved ---------------------------------------------------------------------------

   They are kept in this browser, so that they survive a reload, and by the words that they replace, so that they can
   be laid over what somebody else has saved meanwhile. */

const base = { rows: state.rows, doubts: state.doubts, version: data.version };
const PLACE = `mantisreed review ${(data.save_url || data.stem).split("?")[0]} ${data.transcript.recording.digest}`;
const ALIVE = 4000; // milliseconds after which a window with corrections says that it is there
let isKept = true,
  keeping = 0;

const keyOf = (word) => `${word.text}|${word.start}|${word.end}`;
const keyOfDoubt = (doubt) => `${doubt.kind}|${doubt.start}|${doubt.end}`;

/* Runs of rows that were replaced since the last save: by which words they were known, and what they are now. */
function corrections() {
  const places = new Map(base.rows.map((row, at) => [row, at])),
    found = [];
  let from = 0,
    mine = [];
  const close = (until) => {
    const old = base.rows.slice(from, until);
    if (old.length) found.push(correctionOf(old, mine));
    mine = [];
  };
  for (const row of state.rows) {
    const at = places.get(row);
    if (at === undefined) mine.push(row);
    else {
      close(at);
      from = at + 1;
    }
  }
  close(base.rows.length);
  return found;
}

function correctionOf(old, mine) {
  return {
    words: old.flatMap(wordsOf).map(keyOf),
    speaker: old[0].speaker,
    start: old[0].start,
    end: Math.max(...old.map((row) => row.end)),
    rows: mine.map((row) => ({
      start: row.start,
      end: row.end,
      text: row.text,
      speaker: row.speaker,
      // Which of the passages that they replace: those of another version have other numbers.
      passage: row.passage - old[0].passage,
      words: wordsOf(row),
    })),
  };
}

function settledSince() {
  const left = new Set(state.doubts.map(keyOfDoubt));
  return base.doubts.map(keyOfDoubt).filter((key) => !left.has(key));
}

/* Each window has an entry of its own, which a reload finds again. */
function placeOfWindow() {
  let own = sessionStorage.getItem("mantisreed window");
  if (!own) {
    own = Math.random().toString(36).slice(2);
    sessionStorage.setItem("mantisreed window", own);
  }
  return `${PLACE} ${own}`;
}

function keep() {
  clearTimeout(keeping);
  keeping = 0;
  try {
    const place = placeOfWindow(),
      kept = { version: base.version, moment: Date.now(), corrections: corrections(), settled: settledSince() };
    if (kept.corrections.length || kept.settled.length) {
      localStorage.setItem(place, JSON.stringify({ ...kept, position: position() }));
      localStorage.setItem(`${place} seen`, String(Date.now()));
    } else forgetKept(place);
    isKept = true;
  } catch {
    isKept = false; // the browser keeps nothing, or has no room: whoever leaves is asked
  }
}

function keepSoon() {
  if (!keeping) keeping = setTimeout(keep, 200);
}

function forgetKept(place) {
  localStorage.removeItem(place);
  localStorage.removeItem(`${place} seen`);
}

/* What this window kept before it was loaded again, and what windows that are gone have kept. */
function keptBefore() {
  const found = [];
  try {
    const own = placeOfWindow();
    for (const place of Object.keys(localStorage)) {
      if (!place.startsWith(`${PLACE} `) || place.endsWith(" seen")) continue;
      const seen = Number(localStorage.getItem(`${place} seen`));
      if (place !== own && Date.now() - seen < 3 * ALIVE) continue;
      found.push(JSON.parse(localStorage.getItem(place)));
      if (place !== own) forgetKept(place);
    }
  } catch {
    isKept = false;
  }
  return found.sort((one, other) => one.moment - other.moment);
}

/* ---- laying them over a text ---------------------------------------------------------------------------------- */

/* All words of the text in order, with their rows and places there. */
function wordPlaces() {
  const all = [],
    byKey = new Map();
  state.rows.forEach((row, at) =>
    wordsOf(row).forEach((word, place) => {
      const key = keyOf(word);
      if (!byKey.has(key)) byKey.set(key, []);
      byKey.get(key).push(all.length);
      all.push({ word, key, row: at, place });
    }),
  );
  return { all, byKey };
}

/* Where the words of a correction stand now, as [first, behind the last]; whether they stand there unchanged. */
function placed(correction, { all, byKey }) {
  const { words } = correction;
  for (const at of byKey.get(words[0]) || [])
    if (words.every((key, step) => all[at + step]?.key === key)) return { at, until: at + words.length, isClean: true };
  const middle = ({ word }) => (word.start + word.end) / 2;
  let at = all.findIndex((one) => middle(one) >= correction.start);
  if (at < 0) at = all.length;
  let until = at;
  while (until < all.length && middle(all[until]) <= correction.end) until++;
  return { at, until, isClean: false };
}

/* What is kept, sorted into what can be laid over the text as it is now, and what somebody else has changed too. */
function sorted(kept) {
  const places = wordPlaces(),
    clean = [],
    conflicts = [];
  for (const correction of kept.corrections) {
    const at = { ...placed(correction, places), correction };
    const theirs = places.all.slice(at.at, at.until).map(({ word }) => word.text);
    const mine = correction.rows.flatMap((row) => row.words.map((word) => word.text));
    if (at.isClean) clean.push(at);
    else if (theirs.join(" ") !== mine.join(" ")) conflicts.push({ ...at, theirs: theirs.join(" ") });
  }
  return { clean, conflicts };
}

function layOver(places, settled, about) {
  const { all } = wordPlaces(),
    rows = [];
  let row = 0,
    place = 0;
  const until = (toRow, toPlace) => {
    if (toRow < row || (toRow === row && toPlace <= place)) return; // two corrections of one place
    for (; row < toRow; row++, place = 0) rows.push(...portions(row, place, wordsOf(state.rows[row]).length));
    if (toPlace > place) rows.push(...portions(row, place, toPlace));
    place = toPlace;
  };
  for (const { at, until: end, correction } of [...places].sort((one, other) => one.at - other.at)) {
    const first = all[at] || { row: state.rows.length, place: 0 };
    until(first.row, first.place);
    const there = state.rows[Math.min(first.row, state.rows.length - 1)];
    rows.push(...correction.rows.map((mine) => rowOver(mine, correction, there)));
    const last = end > at ? all[end - 1] : null;
    if (last && (last.row > row || (last.row === row && last.place >= place)))
      [row, place] = [last.row, last.place + 1];
  }
  until(state.rows.length, 0);
  const gone = new Set(settled);
  change({ rows, doubts: state.doubts.filter((doubt) => !gone.has(keyOfDoubt(doubt))) }, about);
}

/* A part of a row, as it is where that is all of it. */
function portions(at, from, until) {
  const row = state.rows[at],
    count = wordsOf(row).length;
  if (from >= until && count) return [];
  return [from === 0 && until >= count ? row : portion(row, from, until)];
}

function rowOver(mine, correction, there) {
  const speaker = mine.speaker === correction.speaker && there ? there.speaker : mine.speaker;
  const passage = Math.min((there ? there.passage : 0) + mine.passage, passages.length - 1);
  return { ...mine, passage, first: 0, last: 0, speaker };
}

/* ---- when the page is loaded ----------------------------------------------------------------------------------- */

function restore() {
  const before = keptBefore();
  restoreNext(before);
}

function restoreNext(left) {
  const kept = left.shift();
  if (!kept) {
    keepSoon();
    return;
  }
  const { clean, conflicts } = sorted(kept);
  const finish = (chosen) => {
    const places = [...clean, ...chosen];
    const isNew = kept.version !== base.version;
    const about = isNew
      ? "somebody else has saved meanwhile; your corrections are laid over theirs: look at them, and save again"
      : "your corrections that were not saved are here again; Undo takes them back";
    if (places.length || kept.settled.length) layOver(places, kept.settled, about);
    if (kept.position) goTo(kept.position);
    say(about);
    restoreNext(left);
  };
  if (conflicts.length) askWhich(conflicts, finish);
  else finish([]);
}

function askWhich(conflicts, finish) {
  const list = $("conflicts");
  list.replaceChildren(...conflicts.map(conflictElement));
  $("conflict-about").textContent =
    conflicts.length === 1
      ? "Somebody else has saved a correction of a place that you have corrected too. Which one holds?"
      : `Somebody else has saved corrections of ${conflicts.length} places that you have corrected too. Which ones hold?`;
  const dialog = $("conflict-dialog");
  // Whoever closes it without a choice has chosen nothing: both are still there.
  dialog.onclose = () => dialog.showModal();
  $("conflict-done").onclick = () => {
    dialog.onclose = null;
    const chosen = conflicts.filter((_, at) => list.querySelector(`[name="conflict-${at}"]:checked`).value === "mine");
    dialog.close();
    finish(chosen);
  };
  dialog.showModal();
}

function conflictElement(conflict, number) {
  const element = document.createElement("li");
  const hear = document.createElement("button");
  hear.type = "button";
  hear.className = "time";
  hear.textContent = clock(conflict.correction.start);
  hear.setAttribute("aria-label", `Hear from ${clock(conflict.correction.start)}`);
  hear.addEventListener("click", () => {
    seek(conflict.correction.start);
    play();
  });
  element.append(hear);
  const mine = conflict.correction.rows.map((row) => flat(row.text)).join(" ");
  for (const [value, name, text] of [
    ["mine", "Yours", mine],
    ["theirs", "Theirs", conflict.theirs],
  ]) {
    const label = document.createElement("label"),
      choice = document.createElement("input"),
      said = document.createElement("span");
    choice.type = "radio";
    choice.name = `conflict-${number}`;
    choice.value = value;
    choice.checked = value === "mine";
    said.dir = data.direction;
    said.textContent = text || "(nothing)";
    label.append(choice, ` ${name}: `, said);
    element.append(label);
  }
  return element;
}

addEventListener("pagehide", () => {
  if (editing !== null) endEdit(true, false);
  keep();
});
setInterval(() => {
  try {
    const seen = `${placeOfWindow()} seen`;
    if (localStorage.getItem(seen)) localStorage.setItem(seen, String(Date.now()));
  } catch {
    isKept = false;
  }
}, ALIVE);
