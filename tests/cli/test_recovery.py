"""Whatever is wrong with an answer, in whatever kind of card: fixing the card is enough."""

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from conftest import Command, Note
from web import QuietHandler, listening

HEAD = '[settings]\nengine = "weir"\nto = ["txt"]\nmax_attempts = 2\n[engine.weir]\nurl = "{url}"\n'
ONCE = {
    "alone": 'send = { raw = "{audio}", path = "/now" }\nreply.text = "says"\n',
    "takes": 'send = { raw = "{audio}", path = "/now", take.number = "id" }\nreply.text = "says"\n',
}
_START = 'steps.start = { raw = "{audio}", path = "/jobs", take.number = "id" }\n'
_ASK = (
    'steps.ask = { path = "/jobs/{number}", state = "is", waiting = ["wet"], done = ["dry"], '
    'interval = "10 ms" }\n'
)
JOBS = {
    "asks": _START + _ASK + 'reply.text = "says"\n',
    "fetches": _START
    + _ASK.replace("interval", 'take.place = "place", interval')
    + 'steps.fetch = { path = "/{place}" }\nreply.text = "says"\n',
}
CARDS = ONCE | JOBS
# What is wrong on a card, and in the place of what.
WRONG = {
    "reply": ('reply.text = "says"', 'reply.text = "said"'),
    "take": ('take.number = "id"', 'take.number = "no"'),
    "second take": ('take.place = "place"', 'take.place = "nowhere"'),
    "states": ('done = ["dry"]', 'done = ["parched"]'),
    "complete": ("reply.text", "reply.complete = \"is == 'over'\"\nreply.text"),
    "format": ("reply.text", 'reply.format = "lines"\nreply.end_mark = "over"\nreply.text'),
}
CASES = [
    (kind, wrong)
    for kind, card in CARDS.items()
    for wrong, (right, _) in WRONG.items()
    if right in card
]
WAYS = (("run", "note.wav"), ("retry",), ("collect",), ("run", "note.wav", "--afresh"))


@contextmanager
def weir() -> Iterator[str]:
    """An engine that answers at once, or as a job, or in a place of its own."""

    class Handler(QuietHandler):
        def do_POST(self) -> None:  # noqa: N802
            self.rfile.read(int(self.headers["Content-Length"]))
            self.send_json({"id": 7, "says": "high tide"} if self.path == "/now" else {"id": 7})

        def do_GET(self) -> None:  # noqa: N802
            self.send_json({"is": "dry", "place": "text", "says": "high tide"})

    with listening(Handler) as port:
        yield f"http://127.0.0.1:{port}"


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize(("kind", "wrong"), CASES)
def test_whatever_is_wrong_fixing_the_card_is_enough(
    kind: str, wrong: str, way: tuple[str, ...], note: Note, mantisreed: Command, tmp_path: Path
) -> None:
    (tmp_path / "note.wav").write_bytes(note.path.read_bytes())
    settings = tmp_path / "mantisreed.toml"
    with weir() as url:
        right = HEAD.replace("{url}", url) + CARDS[kind]
        settings.write_text(right.replace(*WRONG[wrong]))
        is_apart = way[0] == "collect"
        if is_apart:
            mantisreed("submit", "note.wav")
        for _ in range(2):
            failed = mantisreed("collect") if is_apart else mantisreed("run", "note.wav")
            assert failed.returncode in (0, 1, 3), failed.stderr
            assert "internal error" not in failed.stderr
        assert not list(tmp_path.glob("transcripts/*.txt"))
        settings.write_text(right)
        ended = mantisreed(*way)
        if is_apart and not list(tmp_path.glob("transcripts/*.txt")):
            # What failed for good, or was not sent, is the business of another command.
            ended = mantisreed("retry")
    assert ended.returncode == 0, ended.stderr
    (text,) = (tmp_path / "transcripts").glob("*.txt")
    assert text.read_text().split() == ["high", "tide"]


TWINS = """
[settings]
to = ["txt"]
[engine.weir]
url = "{url}"
send = { raw = "{audio}", path = "/now" }
reply.text = "says"
price = { per_minute = "1", currency = "credits" }
profile.trial.account = "trial"
[engine.lock]
url = "{url}"
send = { raw = "{audio}", path = "/now" }
reply.text = "says"
price = { per_minute = "1", currency = "credits" }
"""


def test_each_job_keeps_the_name_of_its_card_and_accounts_share_no_reply(
    note: Note, mantisreed: Command, tmp_path: Path
) -> None:
    (tmp_path / "note.wav").write_bytes(note.path.read_bytes())
    with weir() as url:
        (tmp_path / "mantisreed.toml").write_text(TWINS.replace("{url}", url))
        for engine in ("weir", "lock", "weir:trial"):
            ended = mantisreed("run", "note.wav", "--engine", engine, "--overwrite")
            assert ended.returncode == 0, ended.stderr
    jobs = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
    paid = {job["engine"]: bool(job["cost"]) for job in jobs}
    # The two cards send the same, so that the second costs nothing; another account has no reply.
    assert paid == {"weir": True, "lock": False, "weir:trial": True}


def test_the_next_engine_takes_what_the_first_fails_on_and_nothing_is_paid_twice(
    note: Note, mantisreed: Command, tmp_path: Path
) -> None:
    for name in ("dawn", "dusk"):
        (tmp_path / f"{name}.wav").write_bytes(note.path.read_bytes() + name.encode())
    with weir() as url:
        wrong = 'errors.bad_request.when = "says"\nprice'
        (tmp_path / "mantisreed.toml").write_text(
            TWINS.replace("{url}", url).replace("price", wrong, 1)
        )
        ended = mantisreed("run", "dawn.wav", "dusk.wav", "--engine", "weir,lock")
        assert ended.returncode == 0, ended.stderr
        assert "lock takes over 2 recordings of weir" in ended.stderr
        jobs = json.loads(mantisreed("jobs", "--json").stdout)["jobs"]
        assert sorted((job["engine"], job["state"], bool(job["cost"])) for job in jobs) == [
            ("lock", "done", True),
            ("lock", "done", True),
            ("weir", "failed", False),
            ("weir", "failed", False),
        ]
        again = mantisreed("run", "dawn.wav", "--engine", "weir", "--engine", "lock")
        assert again.returncode == 0, again.stderr
    refused = mantisreed("submit", "dawn.wav", "--engine", "weir,lock")
    assert refused.returncode == 2 and "takes over when the first has failed" in refused.stderr
