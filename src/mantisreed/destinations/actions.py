"""What a follow-up can do with a result: a struct for each way, with all that has to be known of it
before it is done.

A new way is a struct here, a key of `FollowUp`, and a row of `DELIVERIES` in
`pipeline/followups/delivering.py`.
"""

import re
from collections.abc import Iterator
from typing import Literal

from mantisreed.cards.checks import Problem
from mantisreed.cards.paths import ReplyPath
from mantisreed.cards.steps import Table
from mantisreed.cards.tables import Seconds
from mantisreed.cards.templates import Template
from mantisreed.secrets import SecretSource
from mantisreed.urls import split_url

_ADDRESS = re.compile(r"[^@\s<>,;]+@[^@\s<>,;]+")


class Action(Table, frozen=True, kw_only=True):
    """One way; those that differ in a respect say so."""

    def templates(self) -> Iterator[tuple[str, Template | None]]:
        """Its templates, each with the table that it is in."""
        yield from ()

    def paths(self) -> Iterator[tuple[str, ReplyPath]]:
        """Its paths into what is known of a recording, each with the table that it is in."""
        yield from ()

    def secret_sources(self) -> Iterator[SecretSource | None]:
        """Where its secrets are kept."""
        yield from ()

    def files_sent(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """The kinds of files that it sends on, with the key that names them."""
        yield from ()

    def contradictions(self) -> Iterator[Problem]:
        """What is wrong with its keys, as far as types cannot tell."""
        yield from ()


class Mail(Action, frozen=True, kw_only=True):
    """`[follow_up.NAME.mail]`: a mail for each recording, or one for all of a run.

    Attributes:
        server: `smtp://HOST:PORT` (STARTTLS, but for this machine) or `smtps://HOST:PORT` (TLS from
            the start).
        user: name to log in with; None logs in nowhere.
        password: where its password is kept.
        sender: the address it comes from.
        to: addresses it goes to.
        subject, body: templates; without a body, the text itself.
        attach: formats of the outputs, and names of follow-ups, whose files are attached.
        each: `recording`, or `run` for one digest of a whole run; templates are then filled in for
            each recording.
    """

    server: str
    user: str | None = None
    password: SecretSource | None = None
    sender: str
    to: tuple[str, ...]
    subject: Template = Template("{recording}")
    body: Template | None = None
    attach: tuple[str, ...] = ()
    each: Literal["recording", "run"] = "recording"

    def templates(self) -> Iterator[tuple[str, Template | None]]:
        """See `Action`."""
        yield ".mail", self.subject
        yield ".mail", self.body

    def secret_sources(self) -> Iterator[SecretSource | None]:
        """See `Action`."""
        yield self.password

    def files_sent(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """See `Action`."""
        yield "mail.attach", self.attach

    def contradictions(self) -> Iterator[Problem]:
        """See `Action`."""
        parts = split_url(self.server)
        if parts.scheme not in ("smtp", "smtps") or not parts.hostname:
            yield ".mail", "key 'server': expected smtp://HOST:PORT or smtps://HOST:PORT"
        if (self.user is None) != (self.password is None):
            yield ".mail", "'user' and 'password' belong together"
        if not self.to:
            yield ".mail", "key 'to': expected at least one address"
        for address in (self.sender, *self.to):
            if not _ADDRESS.fullmatch(address):
                yield ".mail", f"{address!r} is no mail address"


class Webhook(Action, frozen=True, kw_only=True):
    """`[follow_up.NAME.webhook]`: an HTTP POST with the result, signed after Standard Webhooks.

    Attributes:
        to: the address, http:// or https://.
        secret: where the signing secret is kept, `whsec_` and base64; None signs nothing.
        send: `json` for all that is known of the recording, or the name of one file, by its format
            or follow-up.
        headers: more headers, as templates.
        timeout: seconds for one try.
    """

    to: str
    secret: SecretSource | None = None
    send: str = "json"
    headers: dict[str, Template] = {}  # noqa: RUF012 - msgspec copies it
    timeout: Seconds = Seconds(60)

    def templates(self) -> Iterator[tuple[str, Template | None]]:
        """See `Action`."""
        yield from ((".webhook.headers", template) for template in self.headers.values())

    def secret_sources(self) -> Iterator[SecretSource | None]:
        """See `Action`."""
        yield self.secret

    def files_sent(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """See `Action`."""
        if self.send != "json":
            yield "webhook.send", (self.send,)

    def contradictions(self) -> Iterator[Problem]:
        """See `Action`."""
        if split_url(self.to).scheme not in ("http", "https"):
            yield ".webhook", "key 'to': expected http://... or https://..."


class Copy(Action, frozen=True, kw_only=True):
    """`[follow_up.NAME.copy]`: the files, copied into a folder or a storage.

    Attributes:
        to: a folder, relative to the workspace, or an address such as `s3://marsh/texts`; a
            template.
        files: formats of the outputs, and names of follow-ups; empty copies all.
    """

    to: Template
    files: tuple[str, ...] = ()

    def templates(self) -> Iterator[tuple[str, Template | None]]:
        """See `Action`."""
        yield ".copy", self.to

    def files_sent(self) -> Iterator[tuple[str, tuple[str, ...]]]:
        """See `Action`."""
        yield "copy.files", self.files


class Rows(Action, frozen=True, kw_only=True):
    """`[follow_up.NAME.rows]`: a row in a table, once for each result.

    Attributes:
        file: a CSV file, relative to the workspace.
        database: `sqlite:///FILE` or `postgresql://USER@HOST/DATABASE`, without a password.
        password: where that of the database is kept.
        table: its name in the database; it is made if need be.
        columns: their names, and the path of each in what is known of the recording.
    """

    file: str | None = None
    database: str | None = None
    password: SecretSource | None = None
    table: str = "transcripts"
    columns: dict[str, ReplyPath]

    def paths(self) -> Iterator[tuple[str, ReplyPath]]:
        """See `Action`."""
        yield from ((".rows.columns", path) for path in self.columns.values())

    def secret_sources(self) -> Iterator[SecretSource | None]:
        """See `Action`."""
        yield self.password

    def contradictions(self) -> Iterator[Problem]:
        """See `Action`."""
        if (self.file is None) == (self.database is None):
            yield ".rows", "expected one of the keys 'file' and 'database'"
        kinds = ("sqlite", "postgresql", "postgres")
        if self.database is not None:
            scheme = split_url(self.database).scheme.partition("+")[0]
            if scheme not in kinds:
                expected = "sqlite:///FILE or postgresql://USER@HOST/DATABASE"
                yield ".rows", f"key 'database': expected {expected}"
        if not self.columns:
            yield ".rows", "key 'columns' is empty"
        if "delivery" in self.columns:
            yield (
                ".rows.columns",
                "'delivery' is the column by which rows are told apart: use another name",
            )


class Program(Action, frozen=True, kw_only=True):
    """`[follow_up.NAME.command]`: a program of this machine; no shell takes part.

    Attributes:
        run: it and its arguments, as templates; one that is empty is left out.
        stdin: what it reads: the text, all that is known as JSON, or nothing.
        result: what it prints: a text, a JSON object, or nothing that counts.
        environment: more variables, as templates.
        secrets: where more placeholders for `environment` are kept.
        timeout: seconds, after which it is stopped.
    """

    run: tuple[Template, ...]
    stdin: Literal["text", "json", "nothing"] = "text"
    result: Literal["text", "json", "nothing"] = "text"
    environment: dict[str, Template] = {}  # noqa: RUF012 - msgspec copies it
    secrets: dict[str, SecretSource] = {}  # noqa: RUF012 - msgspec copies it
    timeout: Seconds = Seconds(600)

    def templates(self) -> Iterator[tuple[str, Template | None]]:
        """See `Action`."""
        yield from ((".command", template) for template in self.run)

    def secret_sources(self) -> Iterator[SecretSource | None]:
        """See `Action`."""
        yield from self.secrets.values()
