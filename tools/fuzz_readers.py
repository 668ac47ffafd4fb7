"""Feed every reader with broken files until it fails in another way than by saying so.

    python tools/fuzz_readers.py [--inputs N] [--seed N]

Starts from files that the writers make, cuts, repeats, swaps and overwrites parts of them, and
mixes them with one another; one in a hundred has some part of its format repeated up to a megabyte.
What WebVTT and TTML are read as has to be what is read when it is written again, and computing has
a budget that grows with the size of the file. Prints how many inputs were read, refused and failed,
and the slowest; the first failure is kept in a file.
"""

import random
import sys
from collections.abc import Iterator
from functools import partial
from itertools import cycle

from fuzzing import Case, fuzz

from mantisreed.errors import InputError
from mantisreed.exports.formats import FORMATS, OUTPUT_FORMATS, OutputFormat
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
    *(
        "1e999",
        "nan",
        "**",
        "[99:99] ",
        "<p begin='",
        "</tt>",
        "🪶",
        "-1",
        "<i>",
        "</b>",
        "<c.loud>",
        "</c>",
        "</v>",
    ),
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
"""Seconds of computing that any input may take, and for each byte of it; both directions where both
are tried. Words
of Japanese without spaces, found by a library, take almost half of that."""

PLAIN = WriteOptions(rules=LayoutRules(speakers="none"))


def text_of(script: Script) -> list[tuple[str, ...]]:
    return [cue.lines for cue in script.cues or ()]


def seeds() -> list[bytes]:
    words = tuple(
        Word(text, n * 0.4, n * 0.4 + 0.3, 0.9)
        for n, text in enumerate(["Two", "terns,", "near", "the", "hut."])
    )
    passages = (
        Passage(0.0, 2.0, "Two terns, near the hut.", "Ada", "engine", words),
        Passage(3.0, 4.0, "潮が満ちる。", "B & <C>", "engine", (Word("潮が満ちる。", 3.0, 4.0),)),
    )
    facts = RecordingFacts("fog.wav", "sha256:1", 5.0)
    script = Script(
        Transcript(recording=facts, engine="brook", job="1", language="en", passages=passages)
    )
    marks = (Mark(0, 0, 9, "b"), Mark(0, 4, 9, "i"))
    cue = Cue(
        1.0,
        2.0,
        ("Two terns, near", "the hut."),
        "Ada",
        words,
        marks,
        "line:0 align:start",
        "first",
    )
    styled = Script(
        cues=(cue, Cue(3.0, 4.0, ("Tea?",), "Ben")),
        head=("STYLE\n::cue {}", "REGION\nid:a\nwidth:40%"),
    )
    made = [form.write(script, WriteOptions(inner_times=True)) for form in FORMATS]
    made += [OUTPUT_FORMATS[name].write(styled) for name in ("srt", "vtt", "ttml")]
    return made + [
        OUTPUT_FORMATS["csv"].write(script, WriteOptions(rows=rows)) for rows in ("words", "cues")
    ]


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
    """A file with some part of it, or of another, said again and again: where a reader goes back,
    it shows.
    """
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


def reads(form: OutputFormat, content: bytes) -> bool:
    """Whether a file is read; False when it is refused.

    Raises:
        AssertionError: what it is read as makes no sense.
    """
    try:
        script = form.read(content)
        assert all(cue.end >= cue.start for cue in script.cues or ()), "a cue ends before it begins"
        is_another = any(remark.what.startswith("this is ") for remark in script.remarks)
        if form.name in KEEPING and not is_another:
            back = form.read(form.write(script, PLAIN))
            assert text_of(back) == text_of(script), "what was read is not written as it was"
    except InputError:
        return False
    return True


def cases(seed: int) -> Iterator[Case]:
    chance, known = random.Random(seed), seeds()
    for form in cycle(form for form in FORMATS if form.read_text is not None):
        content = (repeated if chance.random() < REPEATED else broken)(chance, known)
        yield form.name, content, partial(reads, form, content)


if __name__ == "__main__":
    sys.exit(fuzz(__doc__ or "", cases, always=ALWAYS, each_byte=EACH_BYTE))
