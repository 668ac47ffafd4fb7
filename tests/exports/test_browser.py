"""What a browser's own WebVTT parser makes of what we write."""

import html
import http.server
import json
import re
import subprocess
import threading
from functools import partial
from pathlib import Path

import pytest

from browser import BROWSER
from mantisreed.exports.formats import OUTPUT_FORMATS
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.transcript.document import Word

PAGE = """<!doctype html><video><track default src="cues.vtt"></video><pre></pre><script>
const track = document.querySelector("track");
track.addEventListener("load", () => {
  const cues = [...track.track.cues].map(cue => ({
    start: cue.startTime, end: cue.endTime, text: cue.getCueAsHTML().textContent, raw: cue.text,
    place: [cue.line, cue.align, cue.id], marked: cue.getCueAsHTML().querySelector("i")?.textContent
  }));
  document.querySelector("pre").textContent = JSON.stringify(cues);
});
track.addEventListener("error", () => { document.querySelector("pre").textContent = "[]"; });
track.track.mode = "showing";
</script>"""
FLAGS = (
    *(
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-sync",
    ),
    *(
        "--disable-background-networking",
        "--disable-component-update",
        "--virtual-time-budget=8000",
        "--dump-dom",
    ),
)


@pytest.mark.skipif(BROWSER is None, reason="no browser is installed")
@pytest.mark.parametrize("inner_times", [False, True])
def test_a_browser_finds_the_same_cues(tmp_path: Path, inner_times: bool) -> None:
    words = (Word("Nets", 0.5, 0.8), Word("closed.", 0.9, 1.4))
    cues = (
        Cue(0.5, 2.0, ("Nets closed.",), "Ada & Co <hut>", words),
        Cue(2.25, 4.0, ("5 < 6 & 7 > 6, --> ok?", "&amp; stays", "\u202bשלום"), None),
        Cue(
            3600.0,
            3601.5,
            ("沼の鳥 é ñ 🪶",),
            "B",
            (),
            (Mark(0, 0, 3, "i"),),
            "line:0 align:start",
            "last",
        ),
    )
    options = WriteOptions(inner_times=inner_times)
    (tmp_path / "cues.vtt").write_bytes(OUTPUT_FORMATS["vtt"].write(Script(cues=cues), options))
    (tmp_path / "page.html").write_text(PAGE)
    handler = partial(http.server.SimpleHTTPRequestHandler, directory=str(tmp_path))
    handler.log_message = lambda *arguments: None  # type: ignore[attr-defined]
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), handler) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        address = f"http://127.0.0.1:{server.server_address[1]}/page.html"
        profile = f"--user-data-dir={tmp_path / 'profile'}"
        assert BROWSER is not None
        shown = subprocess.run(
            [BROWSER, *FLAGS, profile, address], capture_output=True, text=True, timeout=60
        ).stdout
        server.shutdown()
    found = re.search(r"<pre>(.*?)</pre>", shown, re.DOTALL)
    assert found is not None, shown
    read = json.loads(html.unescape(found[1]))
    assert [(one["start"], one["end"], one["text"]) for one in read] == [
        (cue.start, cue.end, "\n".join(cue.lines)) for cue in cues
    ]
    assert read[2]["place"] == [0, "start", "last"] and read[2]["marked"] == "沼の鳥"
    assert read[0]["raw"].startswith("<v Ada &amp; Co &lt;hut&gt;>")
    assert ("<00:00:00.900><c>closed.</c>" in read[0]["raw"]) == inner_times
