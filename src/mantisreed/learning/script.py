"""From a script or a page with several curl commands to a card with several steps.

Two commands belong together where the second one uses what the first one's answer holds: a value of
the sample that is printed between them, a variable of the shell, or a stand-in of the same name.
"""

import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from mantisreed.cards.paths import quoted_name
from mantisreed.engines.request import PLACEHOLDERS
from mantisreed.errors import InputError
from mantisreed.learning.curl import (
    CurlRequest,
    Line,
    write_head,
    write_notes,
    write_unknown_reply,
)
from mantisreed.learning.curl_command import CurlCommand, ShownCommand
from mantisreed.learning.fields import FoundFields
from mantisreed.learning.found_lists import joined_path
from mantisreed.learning.job_states import state_lines
from mantisreed.learning.proposal import Proposal
from mantisreed.learning.samples import propose_reply
from mantisreed.urls import split_url

_HEAD = re.compile(r"^(?:<\s*)?HTTP/[\d.]+\s+(\d{3})", re.MULTILINE)
_HEADER = re.compile(r"^(?:<\s*)?([A-Za-z][\w-]*):[ \t]*(\S.*?)\s*$", re.MULTILINE)
_STAND_IN = re.compile(
    r"\$\{?([A-Za-z_]\w*)\}?|\{([A-Za-z_]\w*)\}|<([A-Za-z_][\w -]*)>|:([a-z_]\w*)"
    r"|((?:YOUR[_-])?[A-Z]+(?:[_-][A-Z0-9]+)+)"
)
_CODE = re.compile(r"```.*?(?:```|\Z)|^\s*[{\[].*?^\s*[}\]]\s*$", re.DOTALL | re.MULTILINE)
_FENCE_END = re.compile(r"\A\s*```")
# `id` alone names nothing; `job_id` does.
_OF_NOTHING = ("id", "uuid", "name", "url", "uri", "href", "link", "token", "value")
"""Names of fields that say nothing without what they are of."""

_LEADING = ("location", "content-location", "operation-location")
"""Headers that say where to go on."""

_SHORTEST = 4  # characters of a value that is found again by chance too seldom to matter


def propose_from_script(
    commands: Sequence[ShownCommand], name: str, length: float | None = None
) -> Proposal | None:
    """A card with a step for each command.

    Args:
        commands: in order.
        name: of the engine.
        length: of the sound that the last sample answers, in seconds.

    Returns:
        None where no command uses what another one's answer holds, and no answer is printed.
    """
    script = _Script(name, _different(commands))
    if script.joined():
        return script.proposal(len(commands), length)
    alone = _Script(name, commands[:1])
    if len(commands) != 1 or not alone.shows_answers():
        return None
    return alone.proposal(1, length)


def _different(commands: Sequence[ShownCommand]) -> list[ShownCommand]:
    """The commands without those that show the same request in another way."""
    seen: set[tuple[str, str]] = set()
    kept: list[ShownCommand] = []
    for shown in commands:
        parts = split_url(shown.command.url)
        place = (_verb(shown.command), f"{parts.netloc}{parts.path}")
        # Pages show the same request in several variants; the first is the plain one.
        if place not in seen:
            seen.add(place)
            kept.append(shown)
    return kept


def _verb(command: CurlCommand) -> str:
    if command.method:
        return command.method
    if command.upload:
        return "PUT"
    if command.forms or (command.data and not command.is_query):
        return "POST"
    return "GET"


@dataclass(slots=True)
class _Answer:
    """The sample of an answer, as far as one is printed."""

    status: int | None
    headers: Mapping[str, str]
    document: Any

    @classmethod
    def in_text(cls, text: str) -> "_Answer":
        # `curl -i` and `-v` print it before the body.
        head = _HEAD.search(text)
        headers: dict[str, str] = {}
        status = None
        if head is not None:
            status = int(head[1])
            block = re.split(r"\n\s*\n", text[head.end() :], maxsplit=1)[0]
            headers = {name.lower(): value for name, value in _HEADER.findall(block)}
        return cls(status, headers, _first_json(text))

    def places(self) -> Iterator[tuple[str, Any]]:
        """All values in it, with where a card finds them."""
        for name, value in self.headers.items():
            if name in _LEADING:
                yield f"header:{name.title()}", value
        yield from _leaves(self.document, "")


def _first_json(text: str) -> Any:
    """The first JSON document that begins a line; None where there is none."""
    decoder = json.JSONDecoder()
    for match in re.finditer(r"(?m)^\s*([{\[])", text):
        try:
            return decoder.raw_decode(text, match.start(1))[0]
        except ValueError:  # it only looks like one
            continue
    return None


def _leaves(value: Any, path: str) -> Iterator[tuple[str, Any]]:
    """Values that are no lists; of lists their first item."""
    if isinstance(value, dict):
        for name, item in value.items():
            yield from _leaves(item, joined_path(path, str(name)))
    elif isinstance(value, list):
        if value:
            yield from _leaves(value[0], f"{path}[0]")
    elif path and value is not None:
        yield path, value


@dataclass(slots=True)
class _Step:
    """A command on its way to a step."""

    shown: ShownCommand
    answer: _Answer
    takes: dict[str, str] = field(default_factory=dict)
    guesses: set[str] = field(default_factory=set)
    uses: set[str] = field(default_factory=set)
    whole_url: str = ""
    lines: list[Line] = field(default_factory=list)
    request: CurlRequest | None = None
    carries_audio: bool = False

    @property
    def verb(self) -> str:
        return _verb(self.shown.command)


class _Script:
    """All commands of one script."""

    def __init__(self, name: str, commands: Sequence[ShownCommand]) -> None:
        self._card, self._found = Proposal(name), FoundFields(name)
        self._steps = [_Step(one, _Answer.in_text(one.after)) for one in commands]
        self._names: dict[str, _Step] = {}
        self._called: dict[str, str] = {}

    def shows_answers(self) -> bool:
        """Whether the page prints an answer."""
        return any(step.answer.document is not None for step in self._steps)

    def joined(self) -> bool:
        """Join commands by what later ones use; whether any is joined to another one."""
        for number, step in enumerate(self._steps):
            # What several answers hold was given by the first of them.
            for earlier in self._steps[:number]:
                self._join_by_values(earlier, step)
            self._join_by_names(self._steps[:number], step)
        self._found.taken |= set(self._names)
        return any(step.takes for step in self._steps)

    def _join_by_values(self, earlier: _Step, step: _Step) -> None:
        """Put placeholders where values of an earlier sample stand."""
        # The longest first: an address that holds an ID is taken whole, and not around it.
        places = sorted(earlier.answer.places(), key=lambda place: -len(str(place[1])))
        for path, value in places:
            text, is_number = str(value), isinstance(value, (int, float))
            # Short texts such as `en` or `ok` are found everywhere.
            if isinstance(value, bool) or (len(text) < _SHORTEST and not is_number):
                continue
            name = next((n for n, at in earlier.takes.items() if at == path), None)
            written = name or self._name_for(earlier, path)
            placeholder = f"{{{written}}}"
            if is_number:
                changed = _with_number(step, text, placeholder)
            else:
                changed = _with_value(step, text, placeholder)
            if changed is None:
                continue
            step.shown = replace(step.shown, command=changed)
            self._note(earlier, step, written, path)

    def _join_by_names(self, before: Sequence[_Step], step: _Step) -> None:
        """Put placeholders where a variable or a stand-in names what an earlier answer holds."""
        command = step.shown.command
        for match in _STAND_IN.finditer(_joined_text(command)):
            called = next(filter(None, match.groups()))
            known = self._called.get(called) or (called if called in self._names else None)
            if known is not None:
                command = _with_text(command, match[0], f"{{{known}}}")
                step.shown = replace(step.shown, command=command)
                step.uses.add(known)
                continue
            # What an answer has is surer than what only a request needs.
            found = _giver(before, called) or self._guess(before, step, match)
            if found is None:
                continue
            earlier, path = found
            written = self._name_for(earlier, path, called)
            changed = _with_text(command, match[0], f"{{{written}}}")
            step.shown = replace(step.shown, command=changed)
            command = changed
            self._called[called] = written
            self._note(earlier, step, written, path)

    def _guess(
        self, before: Sequence[_Step], step: _Step, stand_in: re.Match[str]
    ) -> tuple[_Step, str] | None:
        """Who may give what a stand-in in an address needs, where the page shows no answer."""
        # Only an address needs what an answer gave; `$LANGUAGE` in a body is the user's.
        is_in_address = stand_in[0] in split_url(step.shown.command.url).path
        starting = [one for one in before if one.verb not in ("GET", "DELETE")]
        if not is_in_address or not starting or starting[-1].answer.document is not None:
            return None
        starting[-1].guesses.add("id")
        return starting[-1], "id"

    def _note(self, earlier: _Step, step: _Step, name: str, path: str) -> None:
        earlier.takes[name] = path
        step.uses.add(name)
        self._names[name] = earlier
        url = step.shown.command.url.partition("?")[0]
        if url.startswith("{"):
            step.whole_url = url

    def _name_for(self, earlier: _Step, path: str, called: str = "") -> str:
        """A placeholder for a value of an answer."""
        known = next((name for name, at in earlier.takes.items() if at == path), None)
        if known is not None:
            return known
        name = _plain(called) or _plain(path.rpartition(":")[2].rpartition(".")[2])
        above = _plain(path.rpartition(".")[0].rpartition(".")[2])
        if not called and name in _OF_NOTHING and above:
            name = f"{above}_{name}"
        elif not called and name in (*_OF_NOTHING, "location"):
            last = split_url(earlier.shown.command.url).path.rstrip("/").rpartition("/")[2]
            name = f"{_plain(last).removesuffix('s') or 'job'}_{name}"
        base, number = name, 2
        # A name of our own would mean something else, and one of another step would hide it.
        while name in PLACEHOLDERS or (name in self._names and self._names[name] is not earlier):
            name, number = f"{base}_{number}", number + 1
        return name

    def proposal(self, commands: int, length: float | None) -> Proposal:
        """The card."""
        steps = self._read_steps()
        hosts = [step.request.host for step in steps if step.request and not step.whole_url]
        # Logins and storages may be elsewhere; most requests go to the service.
        host = max(hosts, key=hosts.count, default="https://fill-this-in.example")
        common = CurlRequest(CurlCommand(), self._found)
        for step in steps:
            assert step.request is not None
            # What lets somebody in goes to the service's own host alone.
            if step.whole_url or step.request.host != host:
                continue
            common.every += step.request.every
            common.user = common.user or step.request.user
        login = _login(steps, common)
        write_head(self._card, host, self._found, common)
        if login is not None:
            self._write_step("login", login, host)
        exchange = [step for step in steps if step is not login]
        if len(exchange) == 1:
            self._write_step("send", exchange[0], host)
        else:
            for name, step in _named(exchange):
                self._write_step(f"steps.{name}", step, host)
        self._write_reply(exchange, length)
        write_notes(self._card, self._found)
        left_out = commands - len(steps)
        if left_out:
            self._card.notes.append(
                f"{left_out} of {commands} commands are not in the card: they show a request "
                "again, or nothing joins them to the others"
            )
        return self._card

    def _read_steps(self) -> list[_Step]:
        """The steps that belong together, with the keys of their requests."""
        kept: list[_Step] = []
        for step in self._steps:
            found = self._found
            before = found.takes_audio or found.takes_link
            command = step.shown.command
            if step.whole_url:
                query = command.url.partition("?")[2]
                # Only its query is read; where it leads an answer says.
                command = replace(command, url=f"https://taken.invalid/?{query}")
            step.request = CurlRequest(command, found)
            step.lines = step.request.lines()
            step.carries_audio = (found.takes_audio or found.takes_link) and not before
            # Others show something else of the API, such as a list of models.
            if step.carries_audio or step.takes or step.uses:
                kept.append(step)
        return kept

    def _write_step(self, table: str, step: _Step, host: str) -> None:
        card = self._card
        card.table(table)
        assert step.request is not None
        url = step.whole_url
        if not url and step.request.host != host:
            path = next((value for key, value, _ in step.lines if key == "path"), "")
            url = step.request.host + path
        if url:
            card.key("url", url)
        for key, value, comment in step.lines:
            if key != "path" or not url:
                card.key(key, value, comment)
        unsure = "not sure: the page shows no answer that has it"
        for name, path in step.takes.items():
            why = unsure if path in step.guesses else ""
            card.key(f"take.{name}", path, why)
        if table == "steps.ask":
            others = [one.answer.document for one in self._steps if one is not step]
            for line in state_lines(step.answer.document, others, self._prose_around(step)):
                card.line(line)
        if table == "steps.remove":
            card.key("cleanup", True)

    def _prose_around(self, step: _Step) -> str:
        """What stands before and behind a command, without samples."""
        number = self._steps.index(step)
        # A page explains a request before it and behind it.
        around = [one.shown.after for one in self._steps[max(0, number - 1) : number + 1]]
        # Each begins with the end of the fence that its command stands in.
        return " ".join(_CODE.sub(" ", _FENCE_END.sub("", text)) for text in around)

    def _write_reply(self, steps: Sequence[_Step], length: float | None) -> None:
        # What is cleaned up last says nothing.
        last = next((step for step in reversed(steps) if step.verb != "DELETE"), None)
        if last is not None and last.answer.document is not None:
            tried = Proposal(self._card.name)
            try:
                propose_reply(json.dumps(last.answer.document).encode(), tried, length)
            except InputError:  # it says how the job stands, and not what was said
                pass
            else:
                self._card.append(tried)
                return
        write_unknown_reply(self._card)


def _login(steps: Sequence[_Step], common: CurlRequest) -> _Step | None:
    """The step whose answer gives what goes with every request."""
    given = " ".join(str(value) for _, value in common.every)
    for step in steps:
        if not step.carries_audio and any(f"{{{name}}}" in given for name in step.takes):
            return step
    return None


def _named(steps: Sequence[_Step]) -> Iterator[tuple[str, _Step]]:
    """The steps with names that say what they do."""
    audio = next((number for number, step in enumerate(steps) if step.carries_audio), 0)
    # A request that changes something after the sound was sent starts the work.
    later = [step for step in steps[audio + 1 :] if step.verb not in ("GET", "DELETE")]
    names: set[str] = set()
    for number, step in enumerate(steps):
        if number < audio:
            name = "place"
        elif number == audio:
            name = "upload" if later else "start"
        elif step.verb == "DELETE":
            name = "remove"
        elif step.verb != "GET":
            name = "start" if step is later[-1] else "complete"
        else:
            name = "fetch" if "ask" in names else "ask"
        base, again = name, 2
        while name in names:
            name, again = f"{base}_{again}", again + 1
        names.add(name)
        yield name, step


def _giver(steps: Sequence[_Step], called: str) -> tuple[_Step, str] | None:
    """The step whose answer holds what a variable or a stand-in is called, and where."""
    for step in reversed(steps):
        if step.shown.variable == called and step.shown.filter:
            return step, _path_of_filter(step.shown.filter)
    wanted = _plain(called).removeprefix("your_")
    for step in reversed(steps):
        for path, value in step.answer.places():
            last = _plain(path.rpartition(".")[2])
            whole = _plain(path.replace(".", "_"))
            is_same = wanted in (last, whole)
            is_of_it = last in _OF_NOTHING and wanted.endswith(f"_{last}")
            if (is_same or is_of_it) and isinstance(value, (str, int)):
                return step, path
    return None


def _path_of_filter(text: str) -> str:
    """A filter of `jq` that goes down names and numbers, as a path of a card."""
    path = ""
    for name in re.findall(r"[^.\[\]]+|\[\d+\]", text):
        if name.startswith("["):
            path += name
        else:
            path = joined_path(path, name)
    return path or quoted_name(text)


def _plain(name: str) -> str:
    """A name as placeholders are written."""
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name)
    plain = re.sub(r"[^a-z0-9]+", "_", spaced.lower()).strip("_")
    if plain[:1].isalpha():
        return plain
    return ""


def _with_value(step: _Step, value: str, placeholder: str) -> CurlCommand | None:
    """The command with a placeholder in place of a value that stands alone; None where it does
    not stand there.
    """
    command = step.shown.command
    parts = split_url(command.url)
    if value in (command.url, f"{parts.path}?{parts.query}".rstrip("?")):
        return replace(command, url=placeholder)
    # Not within a longer value, of which it may be a part by chance.
    alone = re.compile(rf"(?<![\w.-]){re.escape(value)}(?![\w-])")
    if not alone.search(_joined_text(command)):
        return None
    changed = _mapped(command, lambda text: alone.sub(lambda match: placeholder, text))
    if changed == command:
        return None
    return changed


def _with_number(step: _Step, value: str, placeholder: str) -> CurlCommand | None:
    """The same of a number, which stands for a thing only as a part of a path: elsewhere it may be
    a count, a rate or a length.
    """
    command = step.shown.command
    parts = split_url(command.url)
    segments = parts.path.split("/")
    if value not in segments:
        return None
    path = "/".join(placeholder if one == value else one for one in segments)
    return replace(command, url=command.url.replace(parts.path, path, 1))


def _with_text(command: CurlCommand, text: str, placeholder: str) -> CurlCommand:
    return _mapped(command, lambda written: written.replace(text, placeholder))


def _mapped(command: CurlCommand, change: Any) -> CurlCommand:
    """A command with a change made in all of its texts, but for its host."""
    parts = split_url(command.url)
    host = f"{parts.scheme}://{parts.netloc}"
    url = command.url
    if url.startswith(host):
        rest = change(url[len(host) :])
        # An address that an answer gave needs no host before it.
        url = rest if rest.startswith("{") else host + rest
    return replace(
        command,
        url=url,
        headers=[(name, change(value)) for name, value in command.headers],
        forms=[(name, change(value), is_text) for name, value, is_text in command.forms],
        data=[(option, change(value)) for option, value in command.data],
    )


def _joined_text(command: CurlCommand) -> str:
    """All texts of a command in which something of an earlier answer may stand."""
    texts = [split_url(command.url).path, split_url(command.url).query, command.url]
    texts += [value for _, value in command.headers]
    texts += [value for _, value, _ in command.forms]
    texts += [value for _, value in command.data]
    return "\n".join(texts)
