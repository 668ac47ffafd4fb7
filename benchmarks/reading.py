"""What a card costs: building a request, and reading a long reply, against what any program has to
do for the same.

    python benchmarks/reading.py [--words N]

Prints how many times as long as `json.loads` reading a reply of 100 000 words takes, and how many
times as long as `json.dumps` with base64 building a request of JSON with 1 MB of audio takes.
"""

import argparse
import base64
import json
import statistics
import time
import tomllib
from collections.abc import Callable

from mantisreed.audio.formats import FORMATS
from mantisreed.cards.requests import RequestBuilder, RequestContext
from mantisreed.engines.card import EngineCard
from mantisreed.engines.card_checks import read_cards
from mantisreed.engines.reading.reply import read_reply
from mantisreed.engines.request import Piece, RequestOptions, attachment_of, piece_values
from sizes import parsed

CARD = """
[engine.marsh]
url = "https://speech.marsh.example"
every.headers.X-Key = "key"
send.path = "/listen"
send.json = { audio = "{audio|base64}", lang = "{language}", rate = "{sample_rate}", terms = "{hints}" }
[engine.marsh.reply]
times = "ms"
passages = { each = "parts", text = "text", start = "from", end = "to", speaker = "who" }
words = { each = "words", text = "w", start = "from", end = "to", confidence = "sure" }
"""  # noqa: E501
IN_PASSAGE = 12


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--words", type=int, default=100_000)
    words = parsed(parser, {"words": 500}).words
    card = read_cards("marsh", tomllib.loads(CARD)["engine"]["marsh"], "the benchmark")[
        "marsh", None
    ]
    body = reply(words)
    piece = Piece(bytes(1_000_000), FORMATS["wav"], 16_000, 1, words * 0.4)
    plain = median(lambda: json.loads(body), 5)
    ours = median(lambda: read_reply(card, body, piece), 5)
    print(
        f"reading {words} words: {ours:.3f} s, {ours / plain:.1f} times json.loads ({plain:.3f} s)"
    )
    plain = median(
        lambda: json.dumps({"audio": base64.b64encode(piece.audio).decode(), "lang": "en"}), 50
    )
    ours = median(lambda: build(card, piece), 50)
    print(
        f"building a request: {ours * 1e3:.2f} ms, {ours / plain:.1f} times json.dumps and base64 "
        f"({plain * 1e3:.2f} ms)"
    )


def reply(count: int) -> bytes:
    parts = []
    for first in range(0, count, IN_PASSAGE):
        words = [
            {"w": f"word{n}", "from": n * 400, "to": n * 400 + 350, "sure": 0.93}
            for n in range(first, min(first + IN_PASSAGE, count))
        ]
        span = {"from": words[0]["from"], "to": words[-1]["to"]}
        parts.append(
            {
                "text": " ".join(str(word["w"]) for word in words),
                "who": first % 3,
                "words": words,
                **span,
            }
        )
    return json.dumps({"parts": parts}).encode()


def build(card: EngineCard, piece: Piece) -> None:
    values = piece_values(card, piece, RequestOptions("en", hints=("dunlin", "knot")))
    context = RequestContext(values, attachment=attachment_of(piece))
    assert card.send is not None
    RequestBuilder(card).request("send", card.send, context)


def median(work: Callable[[], object], times: int) -> float:
    taken = []
    for _ in range(times):
        began = time.perf_counter()
        work()
        taken.append(time.perf_counter() - began)
    return statistics.median(taken)


if __name__ == "__main__":
    main()
