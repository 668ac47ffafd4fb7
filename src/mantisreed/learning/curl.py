"""Reading a curl command as API pages print it, and the request of a card that makes the same one.

Nothing is sent, and no file that the command names is read.
"""

import base64
import binascii
import json
import re
from dataclasses import dataclass, field
from itertools import chain
from typing import Any
from urllib.parse import parse_qsl, unquote, urlunsplit

from mantisreed.errors import InputError
from mantisreed.learning.curl_command import CurlCommand, read_curl
from mantisreed.learning.fields import (
    FoundFields,
    extension_of,
    is_audio,
    is_key,
    is_link,
    is_sound_file,
    is_stand_in,
)
from mantisreed.learning.proposal import Proposal, toml_key
from mantisreed.learning.random_values import looks_random
from mantisreed.urls import split_url

_OF_HTTP = frozenset(("content-length", "host", "user-agent", "connection", "expect"))
"""Headers that every client writes by itself."""

_ANY_ANSWER = ("*/*", "application/json")
Line = tuple[str, Any, str]
"""A key of a table, its value, and what is to be said of it."""

_SCHEME = re.compile(r"(\w+)\s+(.+)", re.DOTALL)


def propose_from_curl(text: str, name: str) -> Proposal:
    """A card whose request is that of a curl command.

    Args:
        text: with the command in it.
        name: of the engine.

    Raises:
        InputError: there is no command in it that can be read.
    """
    command = read_curl(text)
    card, found = Proposal(name), FoundFields(name)
    request = CurlRequest(command, found)
    lines = request.lines()
    write_head(card, request.host, found, request)
    card.table("send")
    for key, value, comment in lines:
        card.key(key, value, comment)
    write_unknown_reply(card)
    write_notes(card, found)
    if command.others:
        more = f"{command.others} more commands"
        if command.others == 1:
            more = "another command"
        card.notes.append(f"{more} followed: only the first was read; write steps for the others")
    return card


def write_head(card: Proposal, host: str, found: FoundFields, common: "CurlRequest") -> None:
    """Write what all requests share.

    Args:
        card: where it is written.
        host: of the service.
        found: what the fields of all requests say.
        common: a request that has what goes with each of them.
    """
    card.table()
    card.key("url", host)
    for placeholder, place in found.secrets.items():
        card.key(f"secrets.{placeholder}", place)
    if common.user is not None:
        card.key("values.user", common.user)
    for key, value in found.values.items():
        card.key(f"values.{key}", value, "fill this in")
    formats = found.formats
    if formats:
        card.key("accepts.formats", formats, "what the example sends; more may be taken")
    for form, name in found.format_names.items():
        card.key(f"accepts.format_names.{toml_key(form)}", name)
    if common.every:
        card.table("every")
    for key, value in dict(common.every).items():
        card.key(key, value)


def write_unknown_reply(card: Proposal) -> None:
    """Write a reply table for an engine of which no answer is known."""
    card.table("reply")
    card.key("format", "text", f"until an answer is learnt: engines learn ANSWER --add {card.name}")


def write_notes(card: Proposal, found: FoundFields) -> None:
    """Write what the reader should know of the requests."""
    card.notes += dict.fromkeys(found.notes)
    if not (found.takes_audio or found.takes_link):
        card.notes.append("where the audio goes was not found: put {audio} or {audio|base64} there")
    if found.takes_link:
        card.notes.append(
            "the engine wants a link to the audio: see [recording_urls] in the settings"
        )
    card.notes += [
        f"the key is not in the card: put it into the environment variable {place}"
        for place in found.secret_places
    ]


@dataclass(slots=True)
class CurlRequest:
    """From a command to the keys of a step.

    Attributes:
        command: which one.
        found: what the fields say.
        every: what goes with every request.
        user: whom the password belongs to.
        host: where it goes, without the path.
        is_packed: whether the body is sent in gzip.
    """

    command: CurlCommand
    found: FoundFields
    every: list[tuple[str, Any]] = field(default_factory=list)
    user: str | None = None
    host: str = ""
    is_packed: bool = False

    def lines(self) -> list[Line]:
        """The keys of the step, with what is to be said of them."""
        command = self.command
        parts = split_url(command.url)
        headers = self._headers()
        query = self._fields(parse_qsl(parts.query, keep_blank_values=True))
        body = self._body()
        path = self.found.path(unquote(parts.path))
        self.host = self.found.literal(
            urlunsplit((parts.scheme, parts.netloc.rpartition("@")[2], "", "", ""))
        )
        lines: list[Line] = []
        if path not in ("", "/"):
            lines.append(("path", path, ""))
        lines += self._manner(has_body=bool(body))
        lines += [(f"headers.{toml_key(key)}", value, "") for key, value in headers]
        lines += [(f"query.{toml_key(key)}", value, "") for key, value in query.items()]
        lines += body
        if self.is_packed and body:
            lines.append(("gzip", True, ""))
        return lines

    def _manner(self, *, has_body: bool) -> list[Line]:
        """How the request is made."""
        command = self.command
        lines: list[Line] = []
        # As curl chooses it, so that a card says only what is unusual.
        usual = "POST" if has_body or command.upload else "GET"
        method = command.method or ("PUT" if command.upload else usual)
        if method != usual or (command.upload and method != "POST"):
            lines.append(("method", method, ""))
        if command.follows:
            lines.append(("follow_redirects", True, ""))
        if command.seconds:
            lines.append(("timeout", f"{command.seconds:g} s", ""))
        return lines

    def _headers(self) -> list[tuple[str, str]]:
        kept = []
        for name, value in self.command.headers:
            lower = name.lower()
            # Before all names of keys, as its value has a scheme in front.
            if lower == "authorization":
                self._authorization(value)
            elif lower == "cookie" or is_key(name):
                self._key_in(name, value)
            elif lower == "content-encoding" and "gzip" in value.lower():
                self.is_packed = True
            elif lower == "content-type":
                # The type of a form has a boundary in it, which is made anew each time.
                if not self.command.forms:
                    self.found.add_format(value)
            elif lower not in _OF_HTTP and not (lower == "accept" and value in _ANY_ANSWER):
                text = self.found.text(name, value)
                if text is not None:
                    kept.append((name, text))
        self._user()
        return kept

    def _user(self) -> None:
        """Whom the command says to be."""
        if self.command.user is not None and self.command.is_digest:
            # The first colon parts them; a password may hold more of them.
            user, _, password = self.command.user.partition(":")
            self.user = "..." if is_stand_in(user) or looks_random(user) else user
            self.every.append(("digest", f"{{user}}:{self.found.keep_key(password)}"))
        elif self.command.user is not None:
            self._basic(self.command.user)

    def _key_in(self, name: str, value: str) -> None:
        """A header that holds the key; a cookie has a name before it."""
        if name.lower() == "cookie":
            # A cookie has a name before it, and there may be several.
            pairs = [one.strip().partition("=")[::2] for one in value.split(";") if one.strip()]
            written = "; ".join(f"{key}={self.found.keep_key(kept, key)}" for key, kept in pairs)
        else:
            written = self.found.keep_key(value, name)
        self.every.append((f"headers.{toml_key(name)}", written))

    def _authorization(self, value: str) -> None:
        matched = _SCHEME.fullmatch(value.strip())
        if matched:
            scheme, key = (matched[1], matched[2])
        else:
            scheme, key = ("", value)
        if scheme.lower() == "bearer":
            self.every.append(("bearer", self.found.keep_key(key)))
        elif scheme.lower() == "basic":
            try:
                self._basic(base64.b64decode(key, validate=True).decode())
            except (binascii.Error, ValueError):
                self._basic(f"user:{key}")
        else:
            kept = self.found.keep_key(key)
            self.every.append(("headers.Authorization", f"{scheme} {kept}".strip()))

    def _basic(self, user: str) -> None:
        name, _, password = user.partition(":")
        if not password or is_stand_in(name):
            # The key alone, as the user's name or as the password, is as common as both.
            key = name if not password or is_key(name.strip("$<>{}")) else password
            kept = self.found.keep_key(key)
            if not password:
                self.every.append(("basic", f"{kept}:"))
                return
            self.user = "..." if is_stand_in(name) else name
        else:
            kept = self.found.keep_key(password)
            if looks_random(name):
                self.every.append(("basic", f"{self.found.keep_key(name, 'user')}:{kept}"))
                return
            self.user = name
        self.every.append(("basic", f"{{user}}:{kept}"))

    def _fields(self, pairs: list[tuple[str, str]], *, is_query: bool = True) -> dict[str, Any]:
        """Fields of a query, or of a body that browsers send."""
        fields: dict[str, Any] = {}
        for name, value in pairs:
            # In the address a key goes with every request; in a body it is a field as others are.
            if is_key(name) and is_query:
                self.every.append((f"query.{toml_key(name)}", self.found.keep_key(value, name)))
                continue
            is_url = value.startswith(("http://", "https://")) and (is_audio(name) or is_link(name))
            if is_url or is_key(name):
                text = self.found.json(value, name)
            else:
                text = self.found.text(name, value)
            if text is None:
                continue
            if name in fields:
                if isinstance(fields[name], list):
                    before = fields[name]
                else:
                    before = [fields[name]]
                fields[name] = [*before, text]
            else:
                fields[name] = text
        return fields

    def _body(self) -> list[Line]:
        command = self.command
        if command.forms:
            return [(f"form.{toml_key(key)}", value, "") for key, value in self._form().items()]
        if command.upload:
            return self._raw(command.upload)
        if not command.data:
            return []
        if command.is_query:
            pairs = chain.from_iterable(parse_qsl(text) for _, text in command.data)
            fields = self._fields(list(pairs))
            return [(f"query.{toml_key(key)}", value, "") for key, value in fields.items()]
        # curl joins what several options say; only fields of a form come in several.
        option, first = command.data[0]
        if not first.startswith("@"):
            return self._text_body(first)
        return self._body_in_file(first[1:], is_binary=option == "--data-binary")

    def _body_in_file(self, file: str, *, is_binary: bool) -> list[Line]:
        # `--data` takes out line breaks, which no sound survives; but pages print it all the same.
        if is_sound_file(file) or (is_binary and not file.endswith(".json")):
            return self._raw(file)
        self.found.notes.append(f"the body is in the file {file}: put what it holds into send.json")
        return [("json", {}, "the body is in a file that was not read")]

    def _text_body(self, first: str) -> list[Line]:
        try:
            document = json.loads(first)
        except ValueError:
            document = None
        if isinstance(document, (dict, list)):
            return [("json", self.found.json(document), "")]
        # Taken for a text it would be sent as it stands, with the values of the example in it.
        if first.lstrip().startswith(("{", "[")):
            raise InputError(
                "the body of the curl command looks like JSON, but is none", where="--data"
            )
        if any(
            kind.lower() == "content-type" and "urlencoded" not in value
            for kind, value in self.command.headers
        ):
            return [("raw", self.found.literal(first), "")]
        pairs = list(
            chain.from_iterable(
                parse_qsl(text, keep_blank_values=True) for _, text in self.command.data
            )
        )
        fields = {}
        for name, value in pairs:
            is_content = (
                is_audio(name) and (is_stand_in(value) or len(value) > 40)
            ) or value.startswith("@")
            if is_content and not self.found.takes_audio and not is_key(name):
                self.found.takes_audio = True
                fields[name] = "{audio|base64}"
            else:
                fields |= self._fields([(name, value)], is_query=False)
        return [("urlencoded", fields, "")]

    def _raw(self, file: str) -> list[Line]:
        self.found.takes_audio = True
        self.found.add_format(extension_of(file))
        kinds = [value for name, value in self.command.headers if name.lower() == "content-type"]
        lines: list[Line] = [("raw", "{audio}", "")]
        # A type of sound differs with the format, and is made for each request.
        if kinds and not kinds[0].startswith("audio/"):
            lines.append(("content_type", kinds[0], ""))
        return lines

    def _form(self) -> dict[str, Any]:
        fields: dict[str, Any] = {}
        for name, content, is_text in self.command.forms:
            if is_text:
                part = self._text_part(name, content)
            else:
                part = self._part(name, content)
            if part is None:
                continue
            if name in fields:
                if isinstance(fields[name], list):
                    before = fields[name]
                else:
                    before = [fields[name]]
                fields[name] = [*before, part]
            else:
                fields[name] = part
        return fields

    def _part(self, name: str, content: str) -> Any:
        if content.startswith(("@", "<")):
            value, _, more = content.partition(";")
        else:
            value, _, more = _parted(content)
        said = dict(item.strip().partition("=")[::2] for item in more.split(";") if "=" in item)
        kind = said.get("type")
        if value.startswith(("@", "<")):
            return self._file_part(name, value[1:].strip('"'), kind)
        part = self._text_part(name, value)
        if kind is None or part is None:
            return part
        if not isinstance(part, dict):
            return {"value": part, "content_type": kind}
        # It is the type that such a part has by itself.
        if kind == "application/json":
            return part
        return {**part, "content_type": kind}

    def _file_part(self, name: str, file: str, kind: str | None) -> Any:
        """A part that is a file: the first one that can be is the recording."""
        # Of two files the one that says what is wanted is no sound.
        is_data = kind is not None and ("json" in kind or kind.startswith("text/"))
        if self.found.takes_audio or is_data or file.endswith((".json", ".txt")):
            self.found.notes.append(f"the part {name!r} is in the file {file}, which was not read")
            return {"json": {}, "content_type": kind or "application/json"}
        self.found.takes_audio = True
        if kind and kind.startswith("audio/"):
            self.found.add_format(kind)
            return "{audio}"
        self.found.add_format(extension_of(file))
        if kind:
            return {"value": "{audio}", "content_type": kind}
        return "{audio}"

    def _text_part(self, name: str, value: str) -> Any:
        if is_key(name):
            return self.found.keep_key(value, name)
        if value.lstrip().startswith(("{", "[")):
            try:
                return {"json": self.found.json(json.loads(value))}
            except ValueError:  # it only begins like JSON
                pass
        if value.startswith(("http://", "https://")):
            return self.found.json(value, name)
        return self.found.text(name, value)


def _parted(content: str) -> tuple[str, str, str]:
    """The value of a part, and what is said of it."""
    # A text may hold semicolons; only what curl knows ends it.
    matched = re.search(r";\s*(?:type|filename|headers|encoder)=", content)
    if matched:
        return (content[: matched.start()], ";", content[matched.start() + 1 :])
    return (content, "", "")
