"""The README's example of what a Python program does with subtitles."""

import re
import subprocess
import sys
from pathlib import Path

import mantisreed

README = (Path(__file__).parent.parent / "README.md").read_text(encoding="utf-8")
BAD = "1\n00:00:01,000 --> 00:00:09,000\nForty dunlin were ringed before the tide came back over the mud.\n"


def test_the_example_for_subtitles_works(tmp_path: Path) -> None:
    example = next(one for one in re.findall(r"```python\n(.*?)```", README, re.DOTALL) if "read_script" in one)
    (tmp_path / "talk.srt").write_text(BAD)
    result = subprocess.run([sys.executable, "-c", example], cwd=tmp_path, capture_output=True, text=True)
    assert result.returncode == 0, result.stderr
    assert result.stdout.splitlines() == [
        "1 1.0 line-length 64 columns 37 columns",
        "1 1.0 longest 8.00 s 7 s or less",
    ]
    script = mantisreed.read_script(tmp_path / "talk.vtt")
    assert mantisreed.check_cues(script.cues or (), mantisreed.LayoutRules(line_length=37)) == []
