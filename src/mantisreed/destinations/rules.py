"""What happens with each transcript: the `[after.NAME]` tables of the settings. `docs/flows.md` is
their manual.
"""

import re
from collections.abc import Iterator, Mapping
from graphlib import CycleError, TopologicalSorter
from typing import Annotated, Any, Literal

import msgspec

from mantisreed.cards.checks import Problem
from mantisreed.cards.paths import Condition, ReplyPath
from mantisreed.cards.steps import Table
from mantisreed.cards.tables import Seconds, checked
from mantisreed.cards.templates import Template
from mantisreed.destinations.parcels import FACTS
from mantisreed.errors import SettingsError
from mantisreed.secrets import SecretSource
from mantisreed.urls import split_url

ACTIONS = ("service", "command", "mail", "call", "copy", "rows")
"""Keys of which a follow-up has one: what it does."""

TRANSCRIPT = "transcript"
"""What is needed where nothing is said: the transcript itself."""

_ADDRESS = re.compile(r"[^@\s<>,;]+@[^@\s<>,;]+")
_NAME = re.compile(r"[a-z_][a-z0-9_-]*")


class Mail(Table, frozen=True, kw_only=True):
    """`[after.NAME.mail]`: a mail for each recording, or one for all of a run.

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


class Call(Table, frozen=True, kw_only=True):
    """`[after.NAME.call]`: an HTTP POST with the result, signed after Standard Webhooks.

    Attributes:
        url: where to.
        secret: where the signing secret is kept, `whsec_` and base64; None signs nothing.
        send: `json` for all that is known of the recording, or the name of one file, by its format
            or follow-up.
        headers: more headers, as templates.
        timeout: seconds for one try.
    """

    url: str
    secret: SecretSource | None = None
    send: str = "json"
    headers: dict[str, Template] = {}  # noqa: RUF012 - msgspec copies it
    timeout: Seconds = Seconds(60)


class Copy(Table, frozen=True, kw_only=True):
    """`[after.NAME.copy]`: the files, copied into a folder or a storage.

    Attributes:
        to: a folder, relative to the workspace, or an address such as `s3://marsh/texts`; a
            template.
        files: formats of the outputs, and names of follow-ups; empty copies all.
    """

    to: Template
    files: tuple[str, ...] = ()


class Rows(Table, frozen=True, kw_only=True):
    """`[after.NAME.rows]`: a row in a table, once for each result.

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


class Program(Table, frozen=True, kw_only=True):
    """`[after.NAME.command]`: a program of this machine; no shell takes part.

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


class FollowUp(Table, frozen=True, kw_only=True):
    """`[after.NAME]`: one follow-up.

    Attributes:
        name: the table's own name.
        needs: `transcript`, and names of other follow-ups; the first one is what a service gets.
        when: after which end of a recording.
        only_if: a condition on what is known of the recording (JMESPath).
        service: name of the text service that is asked.
        target: the tag of the language that is wanted of it.
        to: for a translation, the formats that are written; without them it is one text.
        two_languages: whether each cue has both languages, the original above.
        back: name of the service that translates back, for checking.
        reduce: whether results of several parts go to the service again, until there is one.
        command, mail, call, copy, rows: other things to do.
    """

    name: str
    needs: tuple[str, ...] = (TRANSCRIPT,)
    when: Literal["done", "failed", "always"] = "done"
    only_if: Condition | None = None
    service: str | None = None
    target: str | None = None
    to: tuple[str, ...] = ()
    two_languages: bool = False
    back: str | None = None
    reduce: bool = False
    command: Program | None = None
    mail: Mail | None = None
    call: Call | None = None
    copy: Copy | None = None
    rows: Rows | None = None
    max_attempts: Annotated[int, msgspec.Meta(ge=1, le=20)] = 5

    @property
    def follows(self) -> tuple[str, ...]:
        """The other follow-ups that it needs."""
        return tuple(name for name in self.needs if name != TRANSCRIPT)

    @property
    def action(self) -> str:
        """Which of the actions it is."""
        return next(key for key in ACTIONS if getattr(self, key) is not None)


def read_follow_ups(
    tables: Mapping[str, Any], services: Mapping[str, Any], file: str
) -> dict[str, FollowUp]:
    """All `[after.NAME]`, checked, in an order in which each comes after those that it needs.

    Args:
        tables: what TOML gave for `[after]`.
        services: the text services, by name.
        file: the file's name, for messages.

    Raises:
        SettingsError: one is wrong, needs what there is not, or they wait for each other in a
            circle.
    """
    rules: dict[str, FollowUp] = {}
    for name, table in tables.items():
        place = f"after.{name}"
        if not isinstance(table, dict):
            raise SettingsError(
                f"key {name!r}: expected a table [{place}]", where=f"{file}: [after]"
            )
        rules[name] = checked({**table, "name": name}, FollowUp, file, place)
        problem = next(_contradictions(rules[name], tables, services), None)
        if problem:
            raise SettingsError(problem[1], where=f"{file}: [{place}{problem[0]}]")
    return {name: rules[name] for name in in_order(rules, file)}


def in_order(rules: Mapping[str, FollowUp], file: str) -> list[str]:
    """Their names, each after those that it needs.

    Raises:
        SettingsError: they wait for each other in a circle.
    """
    try:
        return list(
            TopologicalSorter({name: rule.follows for name, rule in rules.items()}).static_order()
        )
    except CycleError as error:
        circle = " -> ".join(reversed(error.args[1]))
        raise SettingsError(
            f"these wait for each other: {circle}", where=f"{file}: [after]"
        ) from error


def _contradictions(
    rule: FollowUp, tables: Mapping[str, Any], services: Mapping[str, Any]
) -> Iterator[Problem]:
    if not _NAME.fullmatch(rule.name) or rule.name == TRANSCRIPT:
        yield (
            "",
            f"{rule.name!r} cannot be a name: use small letters, digits, hyphens and underscores",
        )
    actions = [key for key in ACTIONS if getattr(rule, key) is not None]
    if len(actions) != 1:
        found = " and ".join(map(repr, actions)) or "none"
        yield "", f"expected one of the keys {', '.join(ACTIONS)}; found {found}"
        return
    for name in rule.follows:
        if name not in tables:
            yield "", f"key 'needs': there is no [after.{name}]"
    yield from _wrong_service(rule, services)
    yield from _unknown_names(rule)
    if rule.mail is not None:
        yield from _wrong_mail(rule.mail)
    if rule.call is not None and split_url(rule.call.url).scheme not in ("http", "https"):
        yield ".call", "key 'url': expected http://... or https://..."
    if rule.rows is not None:
        yield from _wrong_rows(rule.rows)


def _wrong_service(rule: FollowUp, services: Mapping[str, Any]) -> Iterator[Problem]:
    """Text services that are not there, and keys that need one."""
    for key in ("service", "back"):
        named = getattr(rule, key)
        if named is not None and named not in services:
            known = ", ".join(services) or "none"
            yield "", f"key {key!r}: there is no [service.{named}]; there are: {known}"
    if rule.service is None:
        for key in ("target", "to", "two_languages", "back", "reduce"):
            if getattr(rule, key):
                yield "", f"{key!r} has no effect without 'service'"
    if (rule.two_languages or rule.back) and not rule.to:
        yield "", "key 'to' is missing: the formats that the translation is written in"


def _unknown_names(rule: FollowUp) -> Iterator[Problem]:
    """Placeholders and paths that name nothing that is known, or a follow-up whose result is not
    needed here.
    """
    for place, name in _names_in(rule):
        first, _, rest = name.partition(".")
        if first in rule.follows or (first in FACTS and first != "after"):
            continue
        if first == "after" and (not rest or rest.partition(".")[0] in rule.follows):
            continue
        known = ", ".join((*FACTS, *rule.follows))
        yield place, f"nothing is known as {name!r}; known are: {known}"


def _names_in(rule: FollowUp) -> Iterator[tuple[str, str]]:
    """The names that a follow-up's templates and paths begin with, and the tables that they are
    in.
    """
    for place, template in _templates_of(rule):
        if template is not None:
            yield from ((place, name) for name in template.names)
    paths = []
    if rule.rows is not None:
        paths += [(".rows.columns", path) for path in rule.rows.columns.values()]
    if rule.only_if is not None:
        paths.append(("", rule.only_if))
    for place, path in paths:
        yield from ((place, name) for name in path.root_names)


def _templates_of(rule: FollowUp) -> list[tuple[str, Template | None]]:
    """All templates, each with the table that it is in."""
    found: list[tuple[str, Template | None]] = []
    if rule.mail is not None:
        found += [(".mail", rule.mail.subject), (".mail", rule.mail.body)]
    if rule.call is not None:
        found += [(".call.headers", template) for template in rule.call.headers.values()]
    if rule.copy is not None:
        found.append((".copy", rule.copy.to))
    if rule.command is not None:
        found += [(".command", template) for template in rule.command.run]
    return found


def _wrong_mail(mail: Mail) -> Iterator[Problem]:
    parts = split_url(mail.server)
    if parts.scheme not in ("smtp", "smtps") or not parts.hostname:
        yield ".mail", "key 'server': expected smtp://HOST:PORT or smtps://HOST:PORT"
    if (mail.user is None) != (mail.password is None):
        yield ".mail", "'user' and 'password' belong together"
    if not mail.to:
        yield ".mail", "key 'to': expected at least one address"
    for address in (mail.sender, *mail.to):
        if not _ADDRESS.fullmatch(address):
            yield ".mail", f"{address!r} is no mail address"


def _wrong_rows(rows: Rows) -> Iterator[Problem]:
    if (rows.file is None) == (rows.database is None):
        yield ".rows", "expected one of the keys 'file' and 'database'"
    if rows.database is not None and split_url(rows.database).scheme.partition("+")[0] not in (
        *("sqlite", "postgresql", "postgres"),
    ):
        yield ".rows", "key 'database': expected sqlite:///FILE or postgresql://USER@HOST/DATABASE"
    if not rows.columns:
        yield ".rows", "key 'columns' is empty"
    if "delivery" in rows.columns:
        yield (
            ".rows.columns",
            "'delivery' is the column by which rows are told apart: use another name",
        )
