"""Give every kind of reply that a card can describe to the reader, made hostile, until it does
harm.

    python tools/fuzz_replies.py [--inputs N] [--seed N]

A reply may be refused in a sentence or become a transcript, which then has to be written, in a
format by turns. Anything else is a failure: another exception, a text with control characters,
times that make no sense, or more computing than the budget, which grows with the size of the reply.
Prints how many were read, refused and failed, and the slowest.
"""

import base64
import json
import random
import sys
import tempfile
from collections.abc import Callable, Iterator
from functools import partial
from itertools import cycle
from pathlib import Path
from typing import Any

from fuzzing import Case, fuzz

from mantisreed.audio.formats import FORMATS as SOUND_FORMATS
from mantisreed.engines.asking import reading_of
from mantisreed.engines.card import EngineCard
from mantisreed.engines.client import EngineResponse
from mantisreed.engines.request import Piece
from mantisreed.errors import UnreadableReplyError
from mantisreed.exports.formats import FORMATS
from mantisreed.exports.script import Script, WriteOptions
from mantisreed.transcript.document import RecordingFacts, Transcript, speakers_of
from mantisreed.transcript.stitch import PieceReading, stitch_channels
from mantisreed.transcript.writing import has_controls
from mantisreed.workspace import open_workspace

SECONDS = 2.0
PIECE = Piece(b"", SOUND_FORMATS["flac"], 16_000, 1, SECONDS, ((0.1, 0.9), (1.1, 1.8)))
ALWAYS, EACH_BYTE = 0.5, 4e-6
"""Seconds of computing that any reply may take, and for each byte of it."""

_WORD = 'words = { each = "w", text = "t", start = "s", end = "e", confidence = "c", speaker = "p"'
CARDS = {
    "text": 'text = "x"\nlanguage = "l"',
    "words": f'text = "x"\n{_WORD} }}',
    "milliseconds": f'times = "ms"\n{_WORD} }}',
    "clock": f'times = "clock"\n{_WORD} }}',
    "iso": f'times = "iso8601"\n{_WORD} }}',
    "suffixed": f'times = "suffixed"\n{_WORD} }}',
    "moments": f'times = "moment"\nzero = "z"\n{_WORD} }}',
    "samples": f'times = "samples"\n{_WORD} }}',
    "lengths": 'words = { each = "w", text = "t", start = "s", length = "e" }',
    "beginnings": 'words = { each = "w", text = "t", start = "s" }',
    "side by side": 'words = { text = "w[].t", start = "w[].s", end = "w[].e", confidence = "w[].c" }',  # noqa: E501
    "passages": f'passages = {{ each = "q", text = "t", start = "s", end = "e", speaker = "p" }}\n{_WORD} }}',  # noqa: E501
    "bare passages": 'passages = { each = "q", text = "t", start = "s", end = "e", alternatives = "a" }',  # noqa: E501
    "turns": f'turns = {{ each = "q", start = "s", end = "e", speaker = "p" }}\n{_WORD} }}',
    "names": f'speakers = {{ each = "q", id = "p", name = "t" }}\n{_WORD} }}',
    "tokens": f'{_WORD}, tokens = {{ begin_mark = "▁" }} }}',
    "kinds": f'{_WORD}, kind = "c", events = ["♪"], punctuation = [".", 1], event_pattern = "\\\\[.*\\\\]" }}',  # noqa: E501
    "lines": f'format = "lines"\n{_WORD} }}',
    "text lines": 'format = "lines"\ntext = "x"',
    "events": f'format = "events"\n{_WORD} }}',
    "inside": f'inside = "x"\n{_WORD} }}',
    "inside base64": f'inside = "base64:x"\n{_WORD} }}',
    "xml": 'format = "xml"\nwords = { each = "r.w", text = "t", start = "s", end = "e" }',
    "csv": 'format = "csv"\nwords = { each = "@", text = "t", start = "s", end = "e" }',
    "plain": 'format = "text"',
    **{name: f'format = "{name}"' for name in ("srt", "vtt", "ttml", "ctm")},
}
TEXTS = (
    *(
        "Nets",
        "closed",
        "at",
        "nine.",
        "▁reed",
        "[door]",
        "♪",
        ".",
        "",
        " ",
        "\0",
        "\x1b[2J\x1b]0;x\x07",
        "a\u2028b",
    ),
    *(
        "\ud800",
        "\udfff",
        "\ufffe",
        "\U000e0041",
        "<b>",
        "]]>",
        "</tt>",
        "-->",
        "&lt;",
        "\r\nWEBVTT\n",
        "=1+1",
        "潮",
        "=\t",
    ),
    *(
        "\u202e",
        "\u200d" * 50,
        "a" * 3000,
        "a " * 3000,
        "潮" * 3000,
        "<" * 3000,
        "1" * 5000,
        "'",
        '"',
        "\\",
        "{}",
        "é\u0301",
    ),
)
NUMBERS: tuple[Any, ...] = (
    *(
        0,
        0.1,
        0.5,
        1,
        1.5,
        2,
        -1,
        -0.0,
        1e308,
        -1e308,
        1e-320,
        5e17,
        10**30,
        10**400,
        -(10**400),
        2**63,
        2**64,
    ),
    *(
        "0.5",
        "1e999999999",
        "1e-999999999",
        "9" * 4000,
        "0x10",
        "1_0",
        "١",
        "nan",
        "inf",
        "-inf",
        "½",
        "1/0",
        "",
        "1,5",
    ),
    *(
        "00:00:01.5",
        "99999999999:00:00",
        "PT1.5S",
        "P9999999999D",
        "PT1e9S",
        "1.5s",
        "9e99999h",
        "2026-11-25T06:00:00Z",
    ),
    *(
        "9999-12-31T23:59:59-23:59",
        "0001-01-01T00:00:00+23:59",
        "Mon, 99 Foo 20000000",
        "1" * 90,
        None,
        True,
        [],
        {},
    ),
    *(
        {"seconds": 1},
        {"seconds": "1e999999999"},
        {"millis": 10**300},
        {"seconds": "9" * 5000},
        {"hours": "1e-99999999"},
    ),
)


class Maker:
    """Makes hostile replies; the same seed makes the same."""

    def __init__(self, seed: int) -> None:
        self.chance = random.Random(seed)

    def text(self) -> Any:
        if self.chance.random() < 0.05:
            return self.chance.choice(NUMBERS)
        return self.chance.choice(TEXTS)

    def number(self) -> Any:
        if self.chance.random() < 0.5:
            return round(self.chance.uniform(0, SECONDS), 3)
        return self.chance.choice(NUMBERS)

    def item(self) -> Any:
        if self.chance.random() < 0.02:
            return self.chance.choice((None, 1, "x", [], [[]], {}, True))
        keys = {
            "t": self.text,
            "s": self.number,
            "e": self.number,
            "c": self.number,
            "p": self.text,
            "w": self.few,
        }
        keys |= {"a": lambda: [self.text() for _ in range(3)]}
        return {
            key: make()
            for key, make in keys.items()
            if self.chance.random() < (0.1 if key == "w" else 0.9)
        }

    def few(self) -> list[Any]:
        return [self.item() for _ in range(self.chance.randrange(6))]

    def items(self) -> Any:
        few = self.few()
        match self.chance.randrange(300):
            case 0:
                return few * self.chance.choice((3, 30))
            case 4:
                return [{"t": "a", "s": 0.1, "e": 0.2}] * self.chance.choice((300, 5000, 50_000))
            case 1:
                return self.chance.choice((None, 1, "x y z", {"w": few}))
            case 2:
                return [
                    {"t": "a", "s": 0.1, "e": 2, "p": str(n)}
                    for n in range(self.chance.choice((50, 3000)))
                ]
            case 3:
                return [{"t": "a", "s": None, "e": n / 1000} for n in range(1999, 0, -1)]
        return few

    def document(self) -> Any:
        if self.chance.random() < 0.02:
            return self.chance.choice((None, [], 0, "x", True))
        return {
            "x": self.text(),
            "l": self.text(),
            "z": self.number(),
            "w": self.items(),
            "q": self.items(),
        }

    def json(self) -> bytes:
        body = json.dumps(self.document(), ensure_ascii=self.chance.random() < 0.5).encode(
            "utf-8", "surrogatepass"
        )
        if self.chance.random() < 0.03:
            depth = self.chance.choice((100, 900, 100_000))
            nested = self.chance.choice((b"[", b'{"w":', b'[{"a":'))
            return body.replace(b'"w": [', b'"w": [' + nested * depth, 1)
        return body

    def xml(self, text: Any) -> str:
        return "".join(f"&#{ord(one)};" if not one.isalnum() else one for one in str(text)[:200])

    def body(self, form: str) -> bytes:
        chance = self.chance
        if form in ("lines", "text lines"):
            return b"\n".join(self.json() for _ in range(chance.randrange(4)))
        if form == "events":
            return b"".join(b"data: " + self.json() + b"\n\n" for _ in range(chance.randrange(4)))
        if form.startswith("inside"):
            inner = self.json()
            coded = base64.b64encode(inner) if form.endswith("64") else inner
            return json.dumps({"x": coded.decode("utf-8", "replace")}).encode()
        if form == "xml":
            words = "".join(
                f"<w s='{self.xml(self.number())}' "
                f"e='{self.xml(self.number())}'><t>{self.xml(self.text())}</t></w>"
                for _ in range(chance.randrange(5))
            )
            return f"<a><r>{words * chance.choice((1, 1, 1, 200))}</r></a>".encode(
                "utf-8", "replace"
            )
        rows = [
            (self.number(), self.number(), str(self.text())) for _ in range(chance.randrange(6))
        ]
        rows *= chance.choice((1, 1, 1, 1, 500))
        writers: dict[str, Callable[[Any, Any, str], str]] = {
            "csv": lambda start, end, text: f'{start},{end},"{text}"\n',
            "plain": lambda _, __, text: f"{text} ",
            "srt": lambda start, end, text: (
                f"1\n00:00:0{start},000 --> 00:00:0{end},000\n{text}\n\n"
            ),
            "vtt": lambda start, end, text: (
                f"00:00:0{start} --> 00:00:0{end} line:{start}\n<v {text}>{text}<00:00:{end}>\n\n"
            ),
            "ttml": lambda start, end, text: (
                f"<p begin='{self.xml(start)}s' end='{self.xml(end)}'>{self.xml(text)}<br/></p>"
            ),
            "ctm": lambda start, end, text: f"a 1 {start} {end} {text} {start}\n",
        }
        if form not in writers:
            return self.json()
        text = "".join(writers[form](*row) for row in rows)
        heads = {
            "csv": "s,e,t\n",
            "vtt": "WEBVTT\n\n",
            "ttml": "<tt xmlns='http://www.w3.org/ns/ttml'><body><div>",
        }
        ends = {"ttml": "</div></body></tt>"}
        return (heads.get(form, "") + text + ends.get(form, "")).encode("utf-8", "surrogatepass")


def cards() -> dict[str, EngineCard]:
    """A card for each kind of reply."""
    tables = [
        f'[engine.e{number}]\nurl = "http://127.0.0.1/"\nsend.raw = '
        f'"{{audio}}"\n[engine.e{number}.reply]\n{reply}\n'
        for number, reply in enumerate(CARDS.values())
    ]
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder, "mantisreed.toml")
        file.write_text("\n".join(tables))
        workspace = open_workspace(file)
        return {name: workspace.engine(f"e{number}") for number, name in enumerate(CARDS)}


def checked(card: EngineCard, body: bytes) -> bool:
    """Whether a reply is read; False when it is refused.

    Raises:
        AssertionError: what it is read as makes no sense.
    """
    try:
        reading = reading_of(card, EngineResponse(body), PIECE, {})
    except UnreadableReplyError as error:
        assert len(str(error)) < 3000, "a message as long as the reply"
        return False
    for passage in reading.passages:
        assert 0.0 <= passage.start <= passage.end <= SECONDS + 0.1, "a passage outside the sound"
        texts = (passage.text, passage.speaker or "", *(word.text for word in passage.words))
        assert not any(map(has_controls, texts)), "control characters in a text"
        assert "\n" not in (passage.speaker or ""), "a speaker of several lines"
    stitched = stitch_channels({None: [PieceReading(0.0, SECONDS, reading.passages)]})
    transcript = Transcript(
        recording=RecordingFacts("fog.wav", "sha256:1", SECONDS),
        engine=card.name,
        job="1",
        language=reading.language,
        speakers=speakers_of(stitched.passages),
        passages=stitched.passages,
        events=reading.events,
        notes=(*reading.doubts, *reading.remarks),
    )
    form = FORMATS[len(body) % len(FORMATS)]
    form.write(Script(transcript), WriteOptions())
    return True


def cases(seed: int) -> Iterator[Case]:
    maker = Maker(seed)
    for name, card in cycle(cards().items()):
        body = maker.body(name)
        yield name, body, partial(checked, card, body)


if __name__ == "__main__":
    sys.exit(fuzz(__doc__ or "", cases, always=ALWAYS, each_byte=EACH_BYTE))
