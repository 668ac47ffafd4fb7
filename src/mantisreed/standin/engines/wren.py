"""`wren`: a recogniser that is a program on this machine.

    python -m mantisreed.standin.engines.wren [--bank DIR] [--tongue TAG] [--write FILE] SOUND

hears the phrases of a bank in a sound file, or in what comes on standard input when SOUND is `-`,
and writes {"song": [{"note": "Good", "t": 0.5, "d": 0.3, "sure": 0.93}]} to FILE or to standard
output. Times are seconds.
"""

import argparse
import json
import sys
from pathlib import Path

from mantisreed.errors import MantisreedError
from mantisreed.standin.bank import BUNDLED, load_bank
from mantisreed.standin.hearing import Listener


def card(address: str, listener: Listener) -> str:
    """The engine card, as TOML. The address is not needed: the program is on this machine."""
    return f"""\
[engine.wren]
about = "a program on this machine"
max_concurrent = 2

[engine.wren.accepts]
formats = ["wav", "flac"]

[engine.wren.command]
run = [{json.dumps(sys.executable)}, "-m", "mantisreed.standin.engines.wren", "--write", "{{reply_file}}", "{{audio_file}}"]
reply = "file"
timeout = "10 min"

[engine.wren.reply.words]
each = "song"
text = "note"
start = "t"
length = "d"
confidence = "sure"

[engine.wren.profile.piped]
command.run = [{json.dumps(sys.executable)}, "-m", "mantisreed.standin.engines.wren", "-"]
command.audio = "stdin"
command.reply = "stdout"
"""  # noqa: E501


def main() -> int:
    """Run the program; gives its exit code."""
    parser = argparse.ArgumentParser(
        prog="wren", description="A recogniser that knows the phrases of a bank."
    )
    parser.add_argument("sound")
    parser.add_argument("--bank", type=Path, default=BUNDLED)
    parser.add_argument("--tongue")
    parser.add_argument("--write", type=Path)
    options = parser.parse_args()
    try:
        content = (
            sys.stdin.buffer.read() if options.sound == "-" else Path(options.sound).read_bytes()
        )
        hearing = Listener(load_bank(options.bank)).hear(content, options.tongue)
    except (MantisreedError, OSError) as error:
        sys.stderr.write(f"wren: {error}\n")
        return 1
    song = []
    for line in hearing.lines:
        song.extend(
            [
                {
                    "note": word.text,
                    "t": round(word.start, 3),
                    "d": round(word.end - word.start, 3),
                    "sure": round(word.confidence, 3),
                }
                for word in line.words
            ]
        )
    text = json.dumps({"song": song}) + "\n"
    if options.write:
        options.write.write_text(text, encoding="utf-8")
    else:
        sys.stdout.write(text)
    return 0


if __name__ == "__main__":
    sys.exit(main())
