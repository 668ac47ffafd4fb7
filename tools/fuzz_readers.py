"""Feed every reader with broken files until it fails in another way than by saying so.

    python tools/fuzz_readers.py [--inputs N] [--seed N]

Starts from files that the writers make, cuts, repeats, swaps and overwrites parts of them, and mixes them with one
another; one in a hundred has some part of its format repeated up to a megabyte. What WebVTT and TTML are read as has
to be what is read when it is written again, and computing has a budget that grows with the size of the file. Prints
how many inputs were read, refused and failed, and the slowest; the first failure is kept in a file.
"""

import argparse
import random
import resource
import sys
import time
from pathlib import Path

from mantisreed.errors import InputError
from mantisreed.exports.formats import FORMATS, OUTPUT_FORMATS
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.subtitles.cues import Cue, Mark
from mantisreed.subtitles.rules import LayoutRules
from mantisreed.transcript.document import Passage, RecordingFacts, Transcript, Word

_BROKEN = (
    *(
        "-->",
        "\n\n",
        "\r",
        "\0",
        "<v ",
        "<",
        ">",
        "&amp",
        "&#x110000;",
        "00:00:99,999",
        "NOTE",
        "{",
        '"',
        ",,",
        "\t\t",
    ),
    *("1e999", "nan", "**", "[99:99] ", "<p begin='", "</tt>", "🪶", "-1", "<i>", "</b>", "<c.loud>", "</c>", "</v>"),
    *(
        "<ruby>",
        "<rt>",
        "STYLE\n",
        "REGION\nid:a\n",
        " region:a",
        " line:0",
        "{\\an8}",
        "<00:00:00.500>",
        " style='a'",
    ),
)
SNIPPETS = (*map(str.encode, _BROKEN), b"\xff\xfe", b"\xe9")

KEEPING = ("vtt", "ttml")
"""Formats that can say whatever is read from them."""

REPEATED = 0.01
"""The share of inputs that are large."""

ALWAYS, EACH_BYTE = 0.5, 8e-5
"""Seconds of computing that any input may take, and for each byte of it; both directions where both are tried. Words
of Japanese without spaces, found by a library, take almost half of that."""

MOST_MEMORY = 4 << 30
"""Bytes of address space for all of it."""

PLAIN = WriteOptions(rules=LayoutRules(speakers="none"))


def text_of(script: Script) -> list[tuple[str, ...]]:
    return [cue.lines for cue in script.cues or ()]


def seeds() -> list[bytes]:
    words = tuple(
        Word(text, n * 0.4, n * 0.4 + 0.3, 0.9) for n, text in enumerate(["Two", "terns,", "near", "the", "hut."])
    )
    passages = (
        Passage(0.0, 2.0, "Two terns, near the hut.", "Ada", "engine", words),
        Passage(3.0, 4.0, "潮が満ちる。", "B & <C>", "engine", (Word("潮が満ちる。", 3.0, 4.0),)),
    )
    facts = RecordingFacts("fog.wav", "sha256:1", 5.0)
    script = Script(Transcript(recording=facts, engine="brook", job="1", language="en", passages=passages))
    marks = (Mark(0, 0, 9, "b"), Mark(0, 4, 9, "i"))
    cue = Cue(1.0, 2.0, ("Two terns, near", "the hut."), "Ada", words, marks, "line:0 align:start", "first")
    styled = Script(cues=(cue, Cue(3.0, 4.0, ("Tea?",), "Ben")), head=("STYLE\n::cue {}", "REGION\nid:a\nwidth:40%"))
    made = [form.write(script, WriteOptions(inner_times=True)) for form in FORMATS]
    made += [OUTPUT_FORMATS[name].write(styled) for name in ("srt", "vtt", "ttml")]
    return made + [OUTPUT_FORMATS["csv"].write(script, WriteOptions(rows=rows)) for rows in ("words", "cues")]


def broken(chance: random.Random, known: list[bytes]) -> bytes:
    content = bytearray(chance.choice(known))
    for _ in range(chance.randint(1, 6)):
        at = chance.randrange(len(content) + 1)
        to = min(len(content), at + chance.randint(0, 30))
        match chance.randrange(6):
            case 0:
                del content[at:to]
            case 1:
                content[at:at] = content[at:to] * chance.randint(1, 3)
            case 2:
                content[at:to] = chance.choice(SNIPPETS)
            case 3:
                content[at:to] = chance.randbytes(to - at)
            case 4:
                other = chance.choice(known)
                start = chance.randrange(len(other))
                content[at:at] = other[start : start + chance.randint(1, 80)]
            case _:
                content[at:at] = chance.choice(SNIPPETS)
    return bytes(content)


def repeated(chance: random.Random, known: list[bytes]) -> bytes:
    """A file with some part of it, or of another, said again and again: where a reader goes back, it shows."""
    content = bytearray(chance.choice(known))
    parts = []
    for _ in range(chance.randint(1, 3)):
        if chance.random() < 0.6:
            parts.append(chance.choice(SNIPPETS))
        else:
            start = chance.randrange(len(content))
            parts.append(bytes(content[start : start + chance.randint(1, 40)]))
    part = chance.choice((b"", b" ", b"\n")).join(parts)
    size = chance.choice((1_000, 10_000, 100_000, 1_000_000))
    at = chance.randrange(len(content) + 1)
    content[at:at] = part * (size // max(1, len(part)))
    return bytes(content)


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--inputs", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    chance, known = random.Random(options.seed), seeds()
    readers = [form for form in FORMATS if form.read_text is not None]
    started, read, refused, slowest = time.monotonic(), 0, 0, (0.0, "")
    for number in range(options.inputs):
        form = readers[number % len(readers)]
        content = (repeated if chance.random() < REPEATED else broken)(chance, known)
        begun = time.process_time()
        try:
            script = form.read(content)
            assert all(cue.end >= cue.start for cue in script.cues or ()), "a cue ends before it begins"
            if form.name in KEEPING:
                back = form.read(form.write(script, PLAIN))
                assert text_of(back) == text_of(script), "what was read is not written as it was"
            read += 1
        except InputError:
            refused += 1
        except Exception as error:
            kept = Path(f"failed.{form.name}")
            kept.write_bytes(content)
            print(f"{form.name} failed: {type(error).__name__}: {error}; the input is in {kept}", file=sys.stderr)
            return 1
        took = time.process_time() - begun
        if took > ALWAYS + EACH_BYTE * len(content):
            kept = Path(f"slow.{form.name}")
            kept.write_bytes(content)
            print(f"{form.name}: {took:.2f} s for {len(content)} bytes; the input is in {kept}", file=sys.stderr)
            return 1
        slowest = max(slowest, (took, f"{form.name}, {len(content)} bytes"))
    seconds = time.monotonic() - started
    print(f"{options.inputs} inputs in {seconds:.0f} s: {read} read, {refused} refused, none failed")
    print(f"slowest: {slowest[0]:.2f} s ({slowest[1]})")
    return 0


if __name__ == "__main__":
    sys.exit(main())
