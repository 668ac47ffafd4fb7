"""What happens after each transcript, driven by the command against stand-ins and real servers on
loopback.
"""

import base64
import csv
import email
import hmac
import json
import shutil
import sqlite3
import ssl
import subprocess
from collections.abc import Callable, Iterator
from email.policy import default as policy
from pathlib import Path
from typing import Any

import pytest

from cli.ferry import Ferry
from conftest import Command, free_port
from mantisreed.pipeline.followups import mailing
from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import compose
from mantisreed.standin.mailbox import MailBox, mailbox
from web import QuietHandler, listening

Settings = Callable[..., None]


class Desk:
    """A text service that counts: it turns texts round, word by word; a judge of lengths; and a
    place for calls.

    Attributes:
        asked: texts that it was sent, in order.
        faults: statuses that the next requests get instead of an answer.
        calls: headers and bodies of calls.
        most: characters that it takes at once.
    """

    def __init__(self) -> None:
        self.asked: list[list[str]] = []
        self.faults: list[int] = []
        self.calls: list[tuple[dict[str, str], bytes]] = []
        self.most = 400
        self.port = 0

    def answer(self, path: str, body: bytes) -> tuple[int, Any]:
        if self.faults:
            return self.faults.pop(0), {}
        if path == "/call":
            return 204, {}
        asked = json.loads(body)
        texts = asked["lines"]
        self.asked.append(texts)
        if sum(map(len, texts)) > self.most:
            return 413, {}
        if path == "/judge":
            return 200, {
                "length": len(texts[0]),
                "kind": "long" if len(texts[0]) > 40 else "short",
                "seen": texts[:1],
            }
        return 200, {"lines": [" ".join(reversed(text.split())) for text in texts]}


@pytest.fixture
def desk() -> Iterator[Desk]:
    desk = Desk()

    class Handler(QuietHandler):
        def do_POST(self) -> None:  # noqa: N802
            body = self.rfile.read(int(self.headers["Content-Length"]))
            if self.path == "/call":
                desk.calls.append(
                    ({key.lower(): value for key, value in self.headers.items()}, body)
                )
            status, answer = desk.answer(self.path, body)
            content = b"" if status == 204 else json.dumps(answer).encode()
            self.send(status, content, "application/json")

    with listening(Handler) as desk.port:
        yield desk


SERVICES = """
[service.mirror]
url = "http://127.0.0.1:{port}"
accepts = {{ max_characters = 400, languages = ["en", "de"] }}
price = {{ per_thousand_characters = "0.5", currency = "credits" }}
send = {{ path = "/turn", json = {{ lines = "{{passages}}", into = "{{target}}" }} }}
reply.texts = "lines"
[service.judge]
url = "http://127.0.0.1:{port}"
accepts.max_characters = 400
send = {{ path = "/judge", json.lines = ["{{text}}"] }}
reply.data = {{ length = "length", kind = "kind", seen = "seen" }}
[service.short]
url = "http://127.0.0.1:{port}"
accepts.max_characters = 60
send = {{ path = "/turn", json.lines = ["{{text}}"] }}
reply.text = "lines[0]"
"""


@pytest.fixture
def sailing(ferry: Ferry, desk: Desk, english: list[Phrase], tmp_path: Path) -> Iterator[Settings]:
    """Two recordings, an engine and services; gives what adds `[follow_up.NAME]` tables."""
    for number in range(2):
        compose(english, seed=70 + number, duration=10).write(tmp_path / f"note {number}.flac")
    with ferry.sailing(tmp_path):
        file = tmp_path / "mantisreed.toml"
        whole = file.read_text() + SERVICES.format(port=desk.port)

        def put(after: str = "") -> None:
            file.write_text(whole + after)

        put()
        yield put


def transcript_of(folder: Path, stem: str) -> str:
    return (folder / "transcripts" / f"{stem}.txt").read_text().strip()


def test_translated_subtitles_keep_the_times_of_the_passages_and_are_paid_once(
    mantisreed: Command, desk: Desk, sailing: Settings, tmp_path: Path
) -> None:
    command = (
        *("run", "note 0.flac", "--engine", "ferry", "--language", "en", "--to", "srt,json"),
        *(
            "--translate-with",
            "mirror",
            "--translate-to",
            "de",
            "--bilingual",
            "--back-translate-with",
            "mirror",
        ),
    )
    result = mantisreed(*command)
    assert result.returncode == 0, result.stderr
    assert "words to text services" in result.stderr and "credits" in result.stderr
    outputs = tmp_path / "transcripts"
    original = json.loads((outputs / "note 0.transcript.json").read_text())
    translated = json.loads((outputs / "note 0.de.transcript.json").read_text())
    assert translated["language"] == "de"
    for passage, other in zip(original["passages"], translated["passages"], strict=True):
        assert other["text"].split() == passage["text"].split()[::-1]
        assert (other["start"], other["end"]) == (passage["start"], passage["end"])
        assert all(
            passage["start"] <= word["start"] <= word["end"] <= passage["end"]
            for word in other["words"]
        )
    assert (outputs / "note 0.de.srt").exists() and (outputs / "note 0.en-de.srt").exists()
    with (outputs / "note 0.de.check.csv").open() as table:
        assert all(row["back"] == row["original"] for row in csv.DictReader(table))
    asked = len(desk.asked)
    unnamed = [word for word in command if word not in ("--translate-to", "de")]
    assert mantisreed(*unnamed).returncode == 0  # there is one other language only
    assert mantisreed(*command, "--afresh").returncode == 0
    assert len(desk.asked) == asked, "nothing is asked, or paid, twice"


def test_a_result_goes_to_all_that_need_it_and_the_ledger_tells(
    mantisreed: Command, desk: Desk, sailing: Settings, tmp_path: Path
) -> None:
    sailing("""
[follow_up.length]
service = "judge"
[follow_up.words]
service = "short"
[follow_up.rows]
needs = ["length", "words"]
rows = { file = "kept.csv", columns = { recording = "recording", kind = "follow_up.length.kind", all = "follow_up" } }
[follow_up.base]
needs = ["length"]
rows.database = "sqlite:///kept.sqlite"
rows.table = "notes"
rows.columns = { kind = "follow_up.length.kind", words = "words" }
[follow_up.copies]
needs = ["length"]
copy = { to = "kept/{about.nothing}x", files = ["txt", "length"] }
[follow_up.never]
only_if = "words > `100000`"
copy = { to = "never" }
[follow_up.sorry]
when = "failed"
copy = { to = "never" }
""")  # noqa: E501
    (tmp_path / "broken.flac").write_bytes(b"no sound")
    for _ in range(2):
        result = mantisreed("run", "note 0.flac", "note 1.flac", "--engine", "ferry", "--to", "txt")
        assert result.returncode == 0, result.stderr
    with (tmp_path / "kept.csv").open() as table:
        rows = list(csv.DictReader(table))
    assert {row["recording"] for row in rows} == {"note 0.flac", "note 1.flac"} and len(rows) == 2
    assert json.loads(rows[0]["all"])["length"]["kind"] == rows[0]["kind"]
    with sqlite3.connect(tmp_path / "kept.sqlite") as database:
        assert len(database.execute("SELECT kind, words FROM notes").fetchall()) == 2
    assert len(list((tmp_path / "kept").rglob("*.json"))) == 2 and not (tmp_path / "never").exists()
    # A text over the service's cap goes there in parts, none of them over it.
    parts = [texts[0] for texts in desk.asked if len(texts[0]) <= 60]
    assert len(parts) >= 2
    job = json.loads(mantisreed("jobs", "--json").stdout)["jobs"][0]["id"]
    told = json.loads(mantisreed("jobs", job, "--json").stdout)["follow_ups"]
    assert {one["name"]: one["state"] for one in told} == dict.fromkeys(
        ("length", "words", "rows", "base", "copies"), "done"
    )
    assert "length" in mantisreed("jobs", job).stdout


def test_a_failing_follow_up_fails_nothing_else_and_retry_resumes_it(
    mantisreed: Command, desk: Desk, sailing: Settings, tmp_path: Path
) -> None:
    after = """
[follow_up.length]
service = "judge"
max_attempts = 1
[follow_up.rows]
needs = ["length"]
rows = { file = "kept.csv", columns = { kind = "follow_up.length.kind" } }
[follow_up.copies]
copy = { to = "kept" }
"""
    sailing(after)
    desk.faults = [500]
    result = mantisreed("run", "note 0.flac", "--engine", "ferry", "--to", "txt")
    assert (
        result.returncode == 1
        and "1 done; follow-ups: 1 failed, 1 done, 1 waiting" in result.stderr
    )
    assert "needs length, which is failed" in result.stderr
    assert (tmp_path / "transcripts" / "note 0.txt").exists() and (
        tmp_path / "kept" / "note 0.txt"
    ).exists()
    (tmp_path / "note 0.flac").unlink()  # it is not needed any more
    again = mantisreed("retry")
    assert again.returncode == 0, again.stderr
    assert (tmp_path / "kept.csv").read_text().count("\n") == 2
    assert "no job to do anything about" in mantisreed("retry").stderr


def messages(box: MailBox) -> list[Any]:
    return [email.message_from_bytes(one, policy=policy) for one in box.messages]


def test_each_recording_has_a_mail_and_a_run_has_one_digest_and_none_comes_twice(
    mantisreed: Command, sailing: Settings, tmp_path: Path
) -> None:
    with mailbox(tmp_path / "box") as (server, box):
        sailing(f"""
[follow_up.mail]
mail.server = "{server}"
mail.sender = "hut@marsh.example"
mail.to = ["warden@marsh.example"]
mail.subject = "{{recording}}: {{words}} words"
mail.attach = ["srt"]
[follow_up.digest]
mail = {{ server = "{server}", sender = "hut@marsh.example", to = ["all@marsh.example"], each = "run" }}
""")  # noqa: E501
        for _ in range(2):
            result = mantisreed(
                "run", "note 0.flac", "note 1.flac", "--engine", "ferry", "--to", "txt,srt"
            )
            assert result.returncode == 0, result.stderr
        mails = messages(box)
        assert len(mails) == 3
        (digest,) = [one for one in mails if one["To"] == "all@marsh.example"]
        body = digest.get_body().get_content()
        for number in range(2):
            assert " ".join(transcript_of(tmp_path, f"note {number}").split()) in " ".join(
                body.split()
            )
        subjects = [one["Subject"] for one in mails if one["To"] == "warden@marsh.example"]
        assert sorted(subjects)[0].startswith("note 0.flac: ") and subjects[0].endswith(" words")
        files = {part.get_filename() for one in mails for part in one.iter_attachments()}
        assert files == {"note 0.srt", "note 1.srt"}
        parts = [part for one in mails for part in one.iter_attachments()]
        assert all(part.get_content_charset() == "utf-8" for part in parts)
        assert len({one["Message-ID"] for one in mails}) == 3


@pytest.mark.filterwarnings("ignore:Requiring AUTH")
def test_mail_of_a_real_server_refused_recipients_and_a_server_that_is_away(
    mantisreed: Command, sailing: Settings, tmp_path: Path
) -> None:
    from aiosmtpd.controller import Controller
    from aiosmtpd.smtp import AuthResult, LoginPassword

    class Handler:
        def __init__(self) -> None:
            self.contents: list[bytes] = []

        async def handle_RCPT(  # noqa: N802
            self, server: Any, session: Any, envelope: Any, address: str, options: Any
        ) -> str:
            if address.startswith("nobody"):
                return "550 no such user"
            envelope.rcpt_tos.append(address)
            return "250 OK"

        async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: N802
            self.contents.append(envelope.content)
            return "250 OK"

    def authenticate(
        server: Any, session: Any, envelope: Any, mechanism: str, given: LoginPassword
    ) -> AuthResult:
        return AuthResult(success=(given.login, given.password) == (b"hut", b"a long password"))

    handler, port = Handler(), free_port()
    controller = Controller(
        handler,
        "127.0.0.1",
        port,
        authenticator=authenticate,
        auth_required=True,
        auth_require_tls=False,
    )
    controller.start()
    (tmp_path / "mail.key").write_text("a long password\n")
    (tmp_path / "mail.key").chmod(0o600)
    table = """
[follow_up.mail]
max_attempts = 1
[follow_up.mail.mail]
server = "smtp://127.0.0.1:{port}"
user = "hut"
password = "file:mail.key"
sender = "a@marsh.example"
to = ["{to}@marsh.example"]
"""
    run = ("run", "note 0.flac", "--engine", "ferry", "--to", "txt")
    try:
        sailing(table.format(port=port, to="nobody"))
        refused = mantisreed(*run)
        assert (
            refused.returncode == 1
            and "nobody@marsh.example is refused (550 no such user)" in refused.stderr
        )
        sailing(table.format(port=port, to="warden"))
        assert mantisreed(*run).returncode == 0
        assert len(handler.contents) == 1
    finally:
        controller.stop()
    sailing(table.format(port=port, to="other"))
    away = mantisreed(*run)
    assert (
        away.returncode == 1
        and "mail server cannot be reached" in away.stderr
        and "Traceback" not in away.stderr
    )


class Grey:
    """A mail server that asks some recipients to come back, and refuses others."""

    def __init__(self, tries: int) -> None:
        self.tries = {"grey@marsh.example": tries}
        self.taken: list[str] = []

    async def handle_RCPT(  # noqa: N802
        self, server: Any, session: Any, envelope: Any, address: str, options: Any
    ) -> str:
        if address.startswith("nobody"):
            return "550 5.1.1 there is no nobody on this marsh"
        if self.tries.get(address, 0) > 0:
            self.tries[address] -= 1
            return "451 4.7.1 come back when the tide is in"
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: N802
        self.taken += envelope.rcpt_tos
        return "250 OK"


@pytest.mark.parametrize("each", ["recording", "run"])
def test_each_recipient_has_a_mail_once_whatever_becomes_of_the_others(
    mantisreed: Command,
    sailing: Settings,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    each: str,
) -> None:
    from aiosmtpd.controller import Controller

    monkeypatch.setattr(mailing, "_COME_BACK", (0.01, 0.01))
    handler, port = Grey(tries=2), free_port()
    controller = Controller(handler, "127.0.0.1", port)
    controller.start()
    rule = f"""
[follow_up.mail]
mail.server = "smtp://127.0.0.1:{port}"
mail.sender = "a@marsh.example"
mail.to = ["warden@marsh.example", "nobody@marsh.example", "grey@marsh.example"]
mail.each = "{each}"
"""
    run = ("run", "note 0.flac", "--engine", "ferry", "--to", "txt")
    try:
        sailing(rule)
        first = mantisreed(*run)
        assert first.returncode == 1
        assert (
            "nobody@marsh.example is refused (550 5.1.1 there is no nobody on this marsh)"
            in first.stderr
        )
        assert sorted(handler.taken) == ["grey@marsh.example", "warden@marsh.example"]
        for command in (run, ("retry",), run):
            assert mantisreed(*command).returncode == 1
        assert len(handler.taken) == 2, "whoever has it gets it no second time"
        sailing(rule.replace("nobody", "ringer"))
        assert mantisreed(*run).returncode == 0
        assert sorted(handler.taken)[1:] == ["ringer@marsh.example", "warden@marsh.example"]
    finally:
        controller.stop()


def test_a_recipient_who_is_to_come_back_later_waits_and_is_told_in_the_servers_words(
    mantisreed: Command, sailing: Settings, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    from aiosmtpd.controller import Controller

    monkeypatch.setattr(mailing, "_COME_BACK", (0.01,))
    handler, port = Grey(tries=3), free_port()
    controller = Controller(handler, "127.0.0.1", port)
    controller.start()
    sailing(f"""
[follow_up.mail]
mail.server = "smtp://127.0.0.1:{port}"
mail.sender = "a@marsh.example"
mail.to = ["grey@marsh.example"]
""")
    try:
        first = mantisreed("run", "note 0.flac", "--engine", "ferry", "--to", "txt")
        assert first.returncode == 3 and "451 4.7.1 come back when the tide is in" in first.stderr
        assert mantisreed("retry").returncode == 0 and handler.taken == ["grey@marsh.example"]
    finally:
        controller.stop()


def test_a_call_is_signed_and_has_the_same_id_when_it_is_made_again(
    mantisreed: Command, desk: Desk, sailing: Settings, tmp_path: Path
) -> None:
    key = b"a signing key of the marsh"
    (tmp_path / "call.key").write_text(f"whsec_{base64.b64encode(key).decode()}\n")
    sailing(f"""
[follow_up.call]
webhook = {{ to = "http://127.0.0.1:{desk.port}/call", secret = "file:call.key" }}
""")
    desk.faults = [503]
    assert mantisreed("run", "note 0.flac", "--engine", "ferry", "--to", "txt").returncode == 0
    (first, body), (again, _) = desk.calls
    assert first["webhook-id"] == again["webhook-id"]
    signed = hmac.digest(
        key, f"{first['webhook-id']}.{first['webhook-timestamp']}.".encode() + body, "sha256"
    )
    assert first["webhook-signature"] == f"v1,{base64.b64encode(signed).decode()}"
    assert json.loads(body)["text"].split() == transcript_of(tmp_path, "note 0").split()


def test_a_program_gets_the_text_and_its_result_goes_on(
    mantisreed: Command, sailing: Settings, tmp_path: Path
) -> None:
    sailing("""
[follow_up.count]
command.run = ["python3", "-c", "import sys, json; print(json.dumps({'size': len(sys.stdin.read().split())}))"]
command.result = "json"
[follow_up.rows]
needs = ["count"]
rows = { file = "kept.csv", columns = { size = "follow_up.count.size" } }
[follow_up.bad]
command = { run = ["python3", "-c", "import sys; sys.exit('the tide is out')"] }
""")  # noqa: E501
    result = mantisreed("run", "note 0.flac", "--engine", "ferry", "--to", "txt")
    assert result.returncode == 1 and "the tide is out" in result.stderr
    with (tmp_path / "kept.csv").open() as table:
        (row,) = csv.DictReader(table)
    assert int(row["size"]) == len(transcript_of(tmp_path, "note 0").split())


@pytest.mark.parametrize(
    ("after", "told"),
    [
        (
            '[follow_up.a]\nneeds = ["b"]\ncopy.to = "x"\n'
            '[follow_up.b]\nneeds = ["a"]\ncopy.to = "x"',
            "wait for each other",
        ),
        ('[follow_up.a]\nneeds = ["z"]\ncopy.to = "x"', "there is no [follow_up.z]"),
        ('[follow_up.a]\nservice = "z"', "there is no [service.z]"),
        ("[follow_up.a]", "expected one of the keys service"),
        (
            '[follow_up.a]\ncopy.to = "x"\nrows = { file = "f", columns = { a = "words" } }',
            "found 'copy' and 'rows'",
        ),
        (
            '[follow_up.a.mail]\nserver = "http://x"\nsender = "a@b.c"\nto = ["a@b.c"]',
            "expected smtp://",
        ),
        (
            '[follow_up.a.mail]\nserver = "smtp://x"\nsender = "a@b.c"\nto = ["nobody"]',
            "no mail address",
        ),
        (
            '[follow_up.a.mail]\nserver = "smtp://u:secret-word@x"\n'
            'sender = "a@b.c"\nto = ["a@b.c"]',
            "holds a password",
        ),
        (
            '[follow_up.a]\nrows = { database = "oracle://x", columns = { a = "words" } }',
            "expected sqlite:///",
        ),
        ('[follow_up.a]\ncopy.to = "x/{recodring}"', "nothing is known as 'recodring'"),
        (
            '[follow_up.a]\nrows = { file = "f", columns = { a = "wrods" } }',
            "nothing is known as 'wrods'",
        ),
        ('[follow_up.a]\nonly_if = "wrds > `3`"\ncopy.to = "x"', "nothing is known as 'wrds'"),
        ('[follow_up.a]\nwhat = 1\ncopy.to = "x"', "unknown key 'what'"),
        (
            '[service.x]\nurl = "http://h"\nreply.text = "a"\nsend = { json.a = "b" }',
            "no step sends the text",
        ),
        (
            '[service.x]\nurl = "http://h"\nreply.text = "a"\nsend = { json.a = "{passages}" }',
            "belong together",
        ),
    ],
)
def test_what_makes_no_sense_in_the_settings_is_told_in_a_line(
    mantisreed: Command, sailing: Settings, after: str, told: str
) -> None:
    sailing(after)
    result = mantisreed("run", "note 0.flac", "--engine", "ferry")
    assert result.returncode == 2 and told in result.stderr and "secret-word" not in result.stderr


def test_services_tell_what_they_take(mantisreed: Command, sailing: Settings) -> None:
    found = json.loads(mantisreed("services", "--json").stdout)["services"]
    assert [(one["name"], one["kind"]) for one in found] == [
        ("mirror", "text to text"),
        ("judge", "text to data"),
        ("short", "text to text"),
    ]
    assert found[0]["writes"] == ["en", "de"]


@pytest.mark.parametrize("scheme", ["smtp", "smtps"])
def test_mail_goes_over_tls(
    mantisreed: Command, sailing: Settings, tmp_path: Path, scheme: str
) -> None:
    from aiosmtpd.controller import Controller
    from aiosmtpd.handlers import Mailbox

    program = shutil.which("openssl")
    if program is None:
        pytest.skip("no openssl to make a certificate with")
    key, certificate = tmp_path / "key.pem", tmp_path / "certificate.pem"
    command = [
        program,
        "req",
        "-x509",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-subj",
        "/CN=localhost",
        "-days",
        "1",
    ]
    subprocess.run(
        [*command, "-keyout", str(key), "-out", str(certificate)], check=True, capture_output=True
    )
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(certificate, key)
    port, box = free_port(), Mailbox(tmp_path / "maildir")
    tls = (
        {"ssl_context": context}
        if scheme == "smtps"
        else {"tls_context": context, "require_starttls": True}
    )
    controller = Controller(box, "127.0.0.1", port, **tls)
    controller.start()
    sailing(f"""
[follow_up.mail]
mail = {{ server = "{scheme}://127.0.0.1:{port}", sender = "a@marsh.example", to = ["b@marsh.example"] }}
""")  # noqa: E501
    try:
        result = mantisreed("run", "note 0.flac", "--engine", "ferry", "--to", "txt")
        assert result.returncode == 0, result.stderr
    finally:
        controller.stop()
    assert len(list((tmp_path / "maildir" / "new").iterdir())) == 1


MAIL = 'server = "smtp://127.0.0.1:9"\nsender = "a@marsh.example"\nto = ["b@marsh.example"]'


@pytest.mark.parametrize(
    "wrong",
    [
        (("--report", "nowhere/r.csv"), "", "there is no folder nowhere"),
        (("--report", "."), "", "is a folder"),
        (
            ("--translate-with", "judge", "--translate-to", "de"),
            "",
            "service judge gives data, and cannot translate",
        ),
        (
            ("--translate-with", "mirror", "--translate-to", "fr"),
            "",
            "does not know the language 'fr'",
        ),
        (
            ("--translate-with", "mirror", "--translate-to", "de", "--language", "pl"),
            "",
            "language 'pl'",
        ),
        (
            (
                "--translate-with",
                "mirror",
                "--translate-to",
                "de",
                "--back-translate-with",
                "judge",
            ),
            "",
            "service judge gives data, and cannot translate",
        ),
        (
            (),
            '[follow_up.a]\nservice = "mirror"\ntarget = "fr"\nto = ["srt"]',
            "does not know the language 'fr'",
        ),
        ((), f'[follow_up.a.mail]\n{MAIL}\nattach = ["pdf"]', "there will be no file 'pdf'"),
        (
            (),
            '[follow_up.a]\nwebhook.to = "http://127.0.0.1:9"\nwebhook.send = "md"',
            "there will be no file 'md'",
        ),
        (
            (),
            '[follow_up.a]\ncopy.to = "kept"\ncopy.files = ["german"]',
            "there will be no file 'german'",
        ),
        ((), '[follow_up.a]\ncopy.to = "note 0.flac/kept"', "is a file, and no folder"),
        ((), '[follow_up.a]\ncopy.to = "nothing://kept"', "nothing is read from nothing://"),
        (
            (),
            '[follow_up.a]\ncommand.run = ["no-such-program", "{text}"]',
            "there is no program 'no-such-program'",
        ),
        (
            (),
            '[follow_up.a]\nrows = { file = "old.csv", columns = { words = "words" } }',
            "has no column",
        ),
        (
            (),
            f'[follow_up.a.mail]\n{MAIL}\nuser = "a"\npassword = "env:NO_SUCH_PASSWORD"',
            "NO_SUCH_PASSWORD",
        ),
        (("--replace", "nowhere.txt"), "", "nowhere.txt"),
        (("--redact-names", "nowhere.txt"), "", "nowhere.txt"),
        (("--strong-words", "mask", "--strong-words-file", "nowhere.txt"), "", "nowhere.txt"),
        (("--to", "srt,pdf"), "", "pdf"),
        (("--layout", "huge"), "", "huge"),
        (("--language", "not a language"), "", "language"),
        (("--translate-to", "de"), "", "declares no translating"),
        (("--second-opinion", "nobody"), "", "nobody"),
        (("--into", "note 0.flac"), "", "note 0.flac"),
    ],
)
def test_whatever_is_named_outside_is_checked_before_anything_is_sent(
    mantisreed: Command,
    ferry: Ferry,
    desk: Desk,
    sailing: Settings,
    tmp_path: Path,
    wrong: tuple[tuple[str, ...], str, str],
) -> None:
    options, after, told = wrong
    sailing(after)
    (tmp_path / "old.csv").write_text("recording,text\r\n")
    result = mantisreed("run", "note 0.flac", "--engine", "ferry", *options)
    assert result.returncode == 2 and told in result.stderr, result.stderr
    assert not ferry.asked and not desk.asked
    assert len(result.stderr.strip().splitlines()) <= 2


def test_a_program_that_never_stops_printing_is_stopped(
    mantisreed: Command, sailing: Settings, tmp_path: Path
) -> None:
    program = tmp_path / "gull"
    program.write_text("#!/bin/sh\nyes gull\n")
    program.chmod(0o755)
    sailing(f'[follow_up.a]\ncommand.run = ["{program}"]')
    result = mantisreed("run", "note 0.flac", "--engine", "ferry")
    assert result.returncode == 1 and "prints more than any result is long" in result.stderr
