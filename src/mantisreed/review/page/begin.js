
/* ---- begin ---------------------------------------------------------------------------------------------------- */

$("overview").setAttribute("aria-valuemax", Math.round(data.duration));
if (data.save_url) {
  $("save-served").hidden = false;
  $("save-about").textContent =
    "Into the workspace goes the text with all formats of its outputs; the rest is downloaded.";
}
markSpeakers();
indexWords();
indexDoubts();
measure();
draw();
showClock();
if (!state.rows.length) say("there is no text");
restore();
document.documentElement.dataset.ready = "true";
// The page can be read before the sound is unpacked.
setTimeout(loadSound, 0);
