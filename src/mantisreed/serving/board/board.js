"use strict";
/* The board: all jobs, live. Plain JavaScript; only this service is asked.

   Jobs come page by page, and changes as server-sent events, which are read with `fetch`, since they need the token.
   Only the rows that are seen are in the page. */

const $ = (id) => document.getElementById(id);
const PREFIX = document.documentElement.dataset.prefix; // of all paths of the service
const jobs = new Map();
let token = sessionStorage.getItem("token") || "",
  order = [],
  shown = [],
  engines = [],
  limit = null;

/* ---- asking the service --------------------------------------------------------------------------------------- */

async function ask(path, options = {}) {
  const headers = { Accept: "application/json", ...(options.headers || {}) };
  if (token) headers.Authorization = `Bearer ${token}`;
  const answer = await fetch(path, { ...options, headers });
  if (answer.status === 401) {
    await askToken();
    return ask(path, options);
  }
  if (!answer.ok) {
    const told = await answer.json().catch(() => ({}));
    throw new Error([told.detail || `the service says ${answer.status}`, told.advice].filter(Boolean).join(" – "));
  }
  return answer;
}

let asking = null;

function askToken() {
  asking ||= new Promise((resolve) => {
    $("token-dialog").showModal();
    $("token-form").addEventListener(
      "submit",
      () => {
        token = $("token").value.trim();
        $("token").value = "";
        sessionStorage.setItem("token", token);
        asking = null;
        resolve();
      },
      { once: true },
    );
  });
  return asking;
}

function say(text, isBad = false) {
  $("message").textContent = text;
  $("message").classList.toggle("bad", isBad);
}

/* ---- jobs ----------------------------------------------------------------------------------------------------- */

let events = 0; // that have come
const lastEvent = new Map(); // of each job

/* What an answer says of jobs, as `wanted` finds them in it. An event may overtake an answer that was made before it:
   what the event said holds. */
async function answered(path, options, wanted) {
  const before = events,
    answer = await (await ask(path, options)).json();
  for (const job of wanted(answer)) if ((lastEvent.get(job.id) || 0) <= before) take(job);
  return answer;
}

function take(job) {
  if (!jobs.has(job.id)) {
    // Ids sort by time; new jobs come first.
    let at = 0;
    while (at < order.length && order[at] > job.id) at++;
    order.splice(at, 0, job.id);
  }
  jobs.set(job.id, job);
}

const itself = (job) => [job];

function leaveOut(id) {
  jobs.delete(id);
  order = order.filter((known) => known !== id);
}

async function load() {
  const before = [...order],
    there = new Set();
  let next = `${PREFIX}/jobs?limit=1000`;
  while (next) {
    const page = await answered(next, {}, (answer) => answer.jobs);
    for (const job of page.jobs) there.add(job.id);
    draw();
    next = page.next;
  }
  // What was forgotten while nobody listened.
  for (const id of before) if (!there.has(id)) leaveOut(id);
  draw();
}

async function listen() {
  for (;;) {
    try {
      const answer = await ask(`${PREFIX}/events`, { headers: { Accept: "text/event-stream" } });
      const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
      // What happened while nobody listened.
      load().catch(() => {});
      let waiting = "";
      for (;;) {
        const { value, done } = await reader.read();
        if (done) break;
        waiting += value;
        const events = waiting.split("\n\n");
        waiting = events.pop();
        for (const event of events) taken(event);
        draw();
      }
    } catch (error) {
      say(`the service is not there (${error.message}); trying again`, true);
    }
    await new Promise((resolve) => setTimeout(resolve, 2000));
  }
}

function taken(event) {
  const fields = Object.fromEntries(
    event
      .split("\n")
      .filter((line) => line.includes(": "))
      .map((line) => [line.slice(0, line.indexOf(": ")), line.slice(line.indexOf(": ") + 2)]),
  );
  const told = ["job", "gone"].includes(fields.event) ? JSON.parse(fields.data) : null;
  if (told) lastEvent.set(told.id, ++events);
  if (fields.event === "job") take(told);
  if (fields.event === "gone") leaveOut(told.id);
  if (fields.event === "missed") load().catch(() => {});
}

/* ---- drawing -------------------------------------------------------------------------------------------------- */

const GOOD = ["done", "no speech"],
  BAD = ["failed", "follow-up failed", "incomplete", "suspect"],
  BUSY = ["waiting", "sending", "working", "unconfirmed"];
const elements = new Map();
let isDrawing = false;
const NARROW = matchMedia("(max-width: 60rem)"); // as in the style sheet, which says how high rows are

function draw() {
  if (isDrawing) return;
  isDrawing = true;
  // A window that is behind others has no frames, or goes behind them before its frame comes: then
  // the timer draws. Whichever comes first calls the other off.
  const now = () => {
    cancelAnimationFrame(frame);
    clearTimeout(timer);
    isDrawing = false;
    drawNow();
  };
  const frame = requestAnimationFrame(now),
    timer = setTimeout(now, 250);
}

function drawNow() {
  const states = $("state").value ? $("state").value.split(",") : null,
    name = $("search").value.trim().toLowerCase();
  shown = order
    .map((id) => jobs.get(id))
    .filter(
      (job) => (!states || states.includes(job.state)) && (!name || job.recording.toLowerCase().includes(name)),
    );
  const scroller = $("scroller"),
    list = $("jobs"),
    height = parseFloat(getComputedStyle(document.documentElement).fontSize) * (NARROW.matches ? 11.6 : 4.6);
  list.style.height = `${Math.max(1, shown.length * height)}px`;
  const first = Math.max(0, Math.floor(scroller.scrollTop / height) - 3),
    last = Math.min(shown.length, Math.ceil((scroller.scrollTop + scroller.clientHeight) / height) + 3);
  const wanted = new Set();
  for (let at = first; at < last; at++) {
    const job = shown[at],
      key = JSON.stringify(job);
    wanted.add(job.id);
    let row = elements.get(job.id);
    if (!row) {
      row = document.createElement("li");
      row.className = "job";
      elements.set(job.id, row);
      list.append(row);
    }
    if (row.dataset.key !== key) {
      fill(row, job);
      row.dataset.key = key;
    }
    row.style.top = `${at * height}px`;
    row.setAttribute("aria-setsize", shown.length);
    row.setAttribute("aria-posinset", at + 1);
  }
  for (const [id, row] of elements)
    if (!wanted.has(id)) {
      row.remove();
      elements.delete(id);
    }
  let empty = list.querySelector(".empty");
  if (!shown.length && !empty) {
    empty = document.createElement("li");
    empty.className = "empty";
    empty.textContent = "no jobs here yet";
    list.append(empty);
  }
  if (shown.length && empty) empty.remove();
  sums();
}

function sums() {
  const today = new Date().toISOString().slice(0, 10),
    all = [...jobs.values()];
  const busy = all.filter((job) => BUSY.includes(job.state)).length,
    waiting = all.filter((job) => job.state === "waiting").length,
    failed = all.filter((job) => BAD.includes(job.state)).length;
  const spent = {};
  for (const job of all)
    if (job.cost && (job.finished || "").startsWith(today))
      spent[job.currency] = (spent[job.currency] || 0) + job.cost;
  const total = all.reduce((sum, job) => sum + (job.cost || 0), 0);
  const money = Object.entries(spent)
    .map(([currency, amount]) => `${amount.toFixed(4)} ${currency}`)
    .join(", ");
  $("sums").textContent = [
    all.length === 1 ? "1 job" : `${all.length} jobs`,
    `${busy} under way`,
    waiting ? `${waiting} waiting` : "",
    failed ? `${failed} ${failed === 1 ? "needs" : "need"} attention` : "",
    money ? `${money} spent today` : "",
    limit === null ? "" : `${total.toFixed(4)} of ${limit} spent in all`,
  ]
    .filter(Boolean)
    .join(", ");
}

async function watchWork() {
  for (;;) {
    try {
      const found = await (await ask(`${PREFIX}/work`)).json(),
        machines = new Set(found.workers.map((one) => one.machine)),
        count = (queued) => Object.values(queued).reduce((sum, one) => sum + one, 0),
        queued = count(found.waiting) + count(found.working);
      $("work").hidden = !(found.workers.length || queued);
      $("work").textContent = [
        `${found.workers.length} ${found.workers.length === 1 ? "worker" : "workers"} on ${[...machines].join(", ") || "no machine"}`,
        `${count(found.waiting)} queued recordings waiting, ${count(found.working)} under way`,
        found.seconds_left === null ? "" : `about ${Math.ceil(found.seconds_left / 60)} min left`,
      ]
        .filter(Boolean)
        .join("; ");
    } catch {
      $("work").hidden = true;
      return; // only some tokens may see it
    }
    await new Promise((resolve) => setTimeout(resolve, 10000));
  }
}

function fill(row, job) {
  const text = (kind, content, className) => {
    const one = document.createElement(kind);
    one.className = className;
    one.textContent = content;
    if (content) one.title = content;
    return one;
  };
  const about = document.createElement("div");
  const facts = [
    job.engine,
    job.language,
    job.seconds ? clock(job.seconds) : "",
    job.words !== null ? `${job.words} words` : "",
    job.doubts ? (job.doubts === 1 ? "1 doubt" : `${job.doubts} doubts`) : "",
    job.cost ? `${job.cost.toFixed(4)} ${job.currency || ""}` : job.cost === 0 ? "nothing paid" : "",
    job.created.slice(0, 16).replace("T", " "),
  ];
  about.style.minWidth = "0";
  about.append(text("div", job.recording, "name"), text("div", facts.filter(Boolean).join(" · "), "facts"));
  const state = document.createElement("div");
  state.style.minWidth = "0";
  state.append(
    text("div", job.state, `state ${GOOD.includes(job.state) ? "good" : BAD.includes(job.state) ? "bad" : "busy"}`),
  );
  const why = job.error ? [reason(job), job.error.advice].filter(Boolean).join(" – ") : job.stage || "";
  state.append(text("div", why, "why"));
  const doings = document.createElement("div");
  doings.className = "doings";
  if (job.links.review) {
    doings.append(button("Review", `Review ${job.recording}`, () => openReview(job)));
    for (const form of ["txt", "srt", "vtt", "json"])
      doings.append(button(form, `Download ${job.recording} as ${form}`, () => download(job, form)));
  }
  if ([...BAD, "cancelled"].includes(job.state))
    doings.append(button("Retry", `Retry ${job.recording}`, () => act(job, "retry")));
  if (BUSY.includes(job.state)) doings.append(button("Cancel", `Cancel ${job.recording}`, () => act(job, "cancel")));
  const focused = row.contains(document.activeElement) ? document.activeElement.textContent : null;
  row.replaceChildren(about, state, doings);
  if (focused) [...row.querySelectorAll("button")].find((one) => one.textContent === focused)?.focus();
}

/* Why a job failed, without the name of its recording, which stands beside it. */
function reason(job) {
  const { what } = job.error,
    at = what.indexOf(": ", what.indexOf("://") + 1);
  return at > 0 && what.slice(0, at).endsWith(job.recording) ? what.slice(at + 2) : what;
}

function button(label, name, act) {
  const one = document.createElement("button");
  one.type = "button";
  one.textContent = label;
  one.setAttribute("aria-label", name);
  one.addEventListener("click", act);
  return one;
}

function clock(seconds) {
  const whole = Math.round(seconds),
    pad = (number) => String(number).padStart(2, "0");
  return whole >= 3600
    ? `${Math.floor(whole / 3600)}:${pad(Math.floor(whole / 60) % 60)}:${pad(whole % 60)}`
    : `${Math.floor(whole / 60)}:${pad(whole % 60)}`;
}

/* ---- doing ---------------------------------------------------------------------------------------------------- */

async function act(job, what) {
  try {
    await answered(`${PREFIX}/jobs/${job.id}/${what}`, { method: "POST" }, itself);
    draw();
    say(`${job.recording}: ${what}`);
  } catch (error) {
    say(error.message, true);
  }
}

async function download(job, form) {
  try {
    const answer = await ask(`${PREFIX}/jobs/${job.id}/outputs/${form}`, { headers: { Accept: "*/*" } });
    const link = document.createElement("a");
    link.href = URL.createObjectURL(await answer.blob());
    link.download = `${job.recording.replace(/\.[^.]+$/, "")}.${form === "json" ? "transcript.json" : form}`;
    document.body.append(link);
    link.click();
    link.remove();
    setTimeout(() => URL.revokeObjectURL(link.href), 10000);
  } catch (error) {
    say(error.message, true);
  }
}

async function openReview(job) {
  const page = window.open("", "_blank");
  try {
    const { url } = await (await ask(`${PREFIX}/jobs/${job.id}/review`, { method: "POST" })).json();
    if (page) page.location = url;
    else location.href = url;
  } catch (error) {
    page?.close();
    say(error.message, true);
  }
}

function options() {
  const given = {
    engine: $("engine").value,
    language: $("language").value.trim(),
    second_opinion: $("second").value,
  };
  return Object.fromEntries(Object.entries(given).filter(([, value]) => value));
}

/* Sends all that it can: what is wrong with one of them keeps none of the others back. */
async function send(files, link) {
  const wrong = [];
  let sent = 0;
  for (const file of files) {
    const form = new FormData();
    for (const [name, value] of Object.entries(options())) form.append(name, value);
    form.append("recording", file, file.name);
    say(`sending ${file.name} ...`);
    try {
      await answered(`${PREFIX}/jobs`, { method: "POST", body: form }, itself);
      sent++;
      draw();
    } catch (error) {
      wrong.push(`${file.name}: ${error.message}`);
    }
  }
  if (link) {
    try {
      const body = JSON.stringify({ link, ...options() });
      const headers = { "Content-Type": "application/json" };
      await answered(`${PREFIX}/jobs`, { method: "POST", headers, body }, itself);
      sent++;
      draw();
    } catch (error) {
      wrong.push(`${link}: ${error.message}`);
    }
  }
  const done = sent === 1 ? "1 recording sent" : `${sent} recordings sent`;
  say([...wrong, ...(sent || !wrong.length ? [done] : [])].join("; "), wrong.length > 0);
  $("file").value = "";
  $("link").value = "";
}

$("form").addEventListener("submit", (event) => {
  event.preventDefault();
  const files = [...$("file").files],
    link = $("link").value.trim();
  if (!files.length && !link) return say("choose a file, or give a link", true);
  send(files, link);
});
const drop = $("drop");
for (const kind of ["dragenter", "dragover"])
  addEventListener(kind, (event) => {
    event.preventDefault();
    drop.classList.add("over");
  });
for (const kind of ["dragleave", "drop"])
  addEventListener(kind, (event) => {
    event.preventDefault();
    drop.classList.remove("over");
  });
addEventListener("drop", (event) => {
  const files = [...(event.dataTransfer?.files || [])];
  if (files.length) send(files, "");
});
$("scroller").addEventListener("scroll", draw, { passive: true });
for (const id of ["state", "search"])
  $(id).addEventListener("input", () => {
    $("scroller").scrollTop = 0;
    draw();
  });
new ResizeObserver(draw).observe($("scroller"));

/* ---- begin ---------------------------------------------------------------------------------------------------- */

(async () => {
  try {
    const told = await (await ask(`${PREFIX}/engines`)).json();
    engines = told.engines;
    limit = told.spend_limit;
    for (const engine of engines) {
      const label =
        engine.price_per_minute === null
          ? engine.name
          : `${engine.name} (${engine.price_per_minute} ${engine.currency || ""} a minute)`;
      $("engine").append(new Option(label, engine.name, engine.name === told.default, engine.name === told.default));
      $("second").append(new Option(engine.name, engine.name));
    }
  } catch (error) {
    say(error.message, true);
  }
  document.documentElement.dataset.ready = "true";
  listen();
  watchWork();
})();
