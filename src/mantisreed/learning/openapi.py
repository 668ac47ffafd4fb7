"""Reading an OpenAPI 3 document, and the card that one of its operations implies."""

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import chain
from typing import Any

from mantisreed.cards.paths import quoted_name
from mantisreed.errors import InputError
from mantisreed.learning.fields import (
    FoundFields,
    format_called,
    is_hint,
    is_key,
    is_language,
)
from mantisreed.learning.job_states import STATE, sorted_states, unclear_states
from mantisreed.learning.openapi_document import OpenApiDocument, Operation
from mantisreed.learning.openapi_jobs import (
    NextRequest,
    asking_of,
    called_field,
    fetching_of,
    schema_of,
    with_call,
)
from mantisreed.learning.openapi_signs import (
    audio_field,
    examples_of,
    gives_job,
    gives_text,
    has_audio_field,
    is_audio_type,
    is_bytes,
    is_field_for_link,
    text_format,
)
from mantisreed.learning.proposal import Proposal, toml_key
from mantisreed.learning.random_values import looks_random
from mantisreed.learning.samples import propose_reply
from mantisreed.learning.schema_reply import ReplyWriter


def propose_from_openapi(document: Mapping[str, Any], name: str, operation: str | None) -> Proposal:
    """A card for an operation that takes audio.

    Args:
        document: as `read_openapi` gives it.
        name: of the engine.
        operation: which one; None when there is only one.

    Raises:
        InputError: no operation takes audio, or it is not clear which one is meant.
    """
    read = OpenApiDocument(document)
    operations = list(read.operations())
    taking = [one for one in operations if has_audio_field(one)]
    if operation is not None:
        wanted = operation.lower()
        chosen = [
            one
            for one in operations
            if wanted in (one.id.lower(), f"{one.verb} {one.path}".lower())
        ]
        if not chosen:
            raise InputError(
                f"there is no operation {operation!r}", advice=_listed(taking or operations)
            )
    elif not taking:
        raise InputError("no operation of this document takes audio", advice=_listed(operations))
    else:
        # One that takes sound and gives neither text nor a job is an upload.
        answering = [one for one in taking if gives_text(one) or gives_job(one)] or taking
        if len(answering) > 1:
            raise InputError("several operations take audio", advice=_listed(answering))
        chosen = answering
    return _OpenApiCardWriter(
        read, operations, chosen[0], Proposal(name), FoundFields(name)
    ).proposal()


def _listed(operations: Sequence[Operation]) -> str:
    if not operations:
        return "it describes no operations"
    shown = [f"{one.id} ({one.verb} {one.path})" for one in operations[:8]]
    if len(operations) > 8:
        more = f" and {len(operations) - 8} more"
    else:
        more = ""
    return f"choose one with --operation: {', '.join(shown)}{more}"


@dataclass(slots=True)
class _OpenApiCardWriter:
    """From an operation to a card."""

    document: OpenApiDocument
    operations: Sequence[Operation]
    chosen: Operation
    card: Proposal
    found: FoundFields
    every: list[tuple[str, Any]] = field(default_factory=list)
    head: list[tuple[str, Any, str]] = field(default_factory=list)
    languages: list[str] = field(default_factory=list)

    def proposal(self) -> Proposal:
        asking = asking_of(self.operations, self.chosen)
        fetching = called = None
        if asking is not None:
            fetching, called = fetching_of(self.operations, asking), called_field(self.chosen)
        self._security()
        # Before the head, which has the secrets and formats that the request finds.
        send = self._request(self.chosen)
        if called is not None:
            send = with_call(send, called)
            self.head.append(("callback", {"brings": "news"}, "needs [callbacks] in the settings"))
        self._head()
        step = "steps.start" if asking else "send"
        self.card.table(step)
        for key, value, comment in send:
            self.card.key(key, value, comment)
        if asking is not None:
            self._ask(asking, fetching)
        if asking is None:
            self._reply(self.chosen)
        else:
            self._reply((fetching or asking).operation)
        self.card.notes += dict.fromkeys(self.found.notes)
        return self.card

    def _head(self) -> None:
        card = self.card
        card.table()
        info = self.document.raw.get("info") or {}
        if info.get("title"):
            card.key("about", str(info["title"]))
        card.key("url", self._server())
        for key, value, comment in self.head:
            card.key(key, value, comment)
        for placeholder, place_of_key in self.found.secrets.items():
            card.key(f"secrets.{placeholder}", place_of_key)
            place = place_of_key.partition(":")[2]
            card.notes.append(f"the key is expected in the environment variable {place}")
        for key, value in self.found.values.items():
            card.key(f"values.{key}", value, "fill this in" if value == "..." else "")
        if self.found.formats:
            card.key("accepts.formats", self.found.formats)
        for form, name in self.found.format_names.items():
            card.key(f"accepts.format_names.{toml_key(form)}", name)
        if self.languages:
            card.key("accepts.languages", self.languages)
        if self.every:
            card.table("every")
        for key, value in self.every:
            card.key(key, value)

    def _server(self) -> str:
        servers = self.chosen.raw.get("servers") or self.document.raw.get("servers") or []
        server = servers[0] if servers else {}
        url = str(server.get("url", ""))
        for name, variable in (server.get("variables") or {}).items():
            self.found.values[_plain_name(name)] = str(variable.get("default", "..."))
            url = url.replace(f"{{{name}}}", f"{{{_plain_name(name)}}}")
        if not url.startswith(("http://", "https://")):
            self.card.notes.append(
                "the document does not say where the service is: put its address into url"
            )
            return "https://fill-this-in.example" + (url if url.startswith("/") else "")
        return url.rstrip("/")

    def _security(self) -> None:
        chosen = self.chosen.raw.get("security", self.document.raw.get("security")) or []
        schemes = self.document.resolved(
            (self.document.raw.get("components") or {}).get("securitySchemes") or {}
        )
        names = list(chain.from_iterable(chosen[:1]))
        # A document with one scheme has forgotten to ask for it; an empty list asks for none.
        if not names and "security" not in self.chosen.raw and len(schemes) == 1:
            names = list(schemes)
        for name in names:
            self._scheme(schemes.get(name) or {})

    def _scheme(self, scheme: Mapping[str, Any]) -> None:
        kind, key = scheme.get("type"), self.found.keep_key
        if kind == "http" and str(scheme.get("scheme", "")).lower() == "basic":
            self.found.values["user"] = "..."
            self.every.append(("basic", "{user}:" + key("")))
        elif kind == "http" or kind == "openIdConnect":
            self.every.append(("bearer", key("")))
        elif kind == "apiKey":
            name = str(scheme.get("name", "X-Key"))
            if scheme.get("in") == "cookie":
                self.every.append(("headers.Cookie", f"{name}={key('')}"))
            else:
                place = "query" if scheme.get("in") == "query" else "headers"
                self.every.append((f"{place}.{toml_key(name)}", key(f"<{name}>", name)))
        elif kind == "oauth2":
            flow = (scheme.get("flows") or {}).get("clientCredentials")
            if not flow:
                self.every.append(("bearer", key("")))
                return
            self.found.values["client"] = "..."
            token: dict[str, Any] = {
                "url": flow.get("tokenUrl", "..."),
                "client": "{client}",
                "secret": key(""),
            }
            if flow.get("scopes"):
                token["scope"] = " ".join(flow["scopes"])
            self.head.append(("token", token, ""))
            self.every.append(("bearer", "{token}"))

    def _request(self, operation: Operation) -> list[tuple[str, Any, str]]:
        lines: list[tuple[str, Any, str]] = [("path", self._path(operation), "")]
        is_bodied = operation.verb == "POST" or (operation.verb == "GET" and not operation.body)
        if not is_bodied:
            lines.append(("method", operation.verb, ""))
        for parameter in operation.parameters:
            if parameter.get("in") not in ("query", "header"):
                continue
            name, schema = str(parameter["name"]), parameter.get("schema") or {}
            # These come from the scheme and from the body.
            if name.lower() in ("authorization", "content-type", "accept"):
                continue
            value, comment = self._value(name, schema, required=bool(parameter.get("required")))
            if value is not None:
                place = "query" if parameter["in"] == "query" else "headers"
                lines.append((f"{place}.{toml_key(name)}", value, comment))
        lines += self._body(operation)
        return lines

    def _path(self, operation: Operation) -> str:
        def placeholder(match: re.Match[str]) -> str:
            name = _plain_name(match[1])
            given = next((one for one in operation.parameters if one["name"] == match[1]), {})
            schema = given.get("schema") or {}
            known = schema.get("default", schema.get("example", given.get("example", "...")))
            if looks_random(str(known)):
                return self.found.keep_key(str(known), name)
            self.found.values.setdefault(name, str(known))
            return f"{{{name}}}"

        return re.sub(r"\{([^}]+)\}", placeholder, operation.path)

    def _body(self, operation: Operation) -> list[tuple[str, Any, str]]:
        kinds = operation.body
        audio = [kind for kind in kinds if is_audio_type(kind)]
        form = next((kind for kind in kinds if kind.startswith("multipart/")), None)
        urlencoded = next((kind for kind in kinds if "urlencoded" in kind), None)
        document = next((kind for kind in kinds if "json" in kind), None)
        if form is not None and (not audio or audio_field(kinds[form].get("schema") or {})):
            return self._fields("form", kinds[form])
        if audio:
            return self._raw_body(audio, kinds[audio[0]])
        if document is not None:
            return [("json", self._json_body(kinds[document]), "")]
        if urlencoded:
            return self._fields("urlencoded", kinds[urlencoded])
        return []

    def _json_body(self, media: Mapping[str, Any]) -> Any:
        described = self._document(media.get("schema") or {})
        return described or self.found.json(media.get("example") or {})

    def _raw_body(
        self, audio: Sequence[str], media: Mapping[str, Any]
    ) -> list[tuple[str, Any, str]]:
        """The sound itself as the body, in any of some formats."""
        for kind in audio:
            self.found.add_format(kind)
        self._limit(media.get("schema") or {})
        self.found.takes_audio = True
        said: list[tuple[str, Any, str]] = [("raw", "{audio}", "")]
        if not any(kind.startswith(("audio/", "*/")) for kind in audio):
            # Only bytes are described; a type of sound might be refused.
            said.append(("content_type", "application/octet-stream", ""))
        return said

    def _limit(self, schema: Mapping[str, Any]) -> None:
        if isinstance(schema.get("maxLength"), int):
            self.head.append(("accepts.max_bytes", schema["maxLength"], ""))

    def _fields(self, key: str, media: Mapping[str, Any]) -> list[tuple[str, Any, str]]:
        schema, encoding = media.get("schema") or {}, media.get("encoding") or {}
        required = schema.get("required") or []
        lines: list[tuple[str, Any, str]] = []
        for name, inner in (schema.get("properties") or {}).items():
            value: Any = None
            comment = ""
            if not self.found.takes_audio and is_bytes(name, inner):
                self._take_audio(inner, (encoding.get(name) or {}).get("contentType"))
                value = "{audio}" if key == "form" else "{audio|base64}"
            elif inner.get("type") == "object":
                found = self._document(inner)
                if found and (name in required or self._is_wanted(inner)):
                    value = {"json": found}
            else:
                value, comment = self._value(name, inner, required=name in required)
            if value is not None:
                lines.append((f"{key}.{toml_key(name)}", value, comment))
        return lines

    def _take_audio(self, schema: Mapping[str, Any], kinds: Any) -> None:
        self.found.takes_audio = True
        for kind in re.split(r"\s*,\s*", str(kinds or schema.get("contentMediaType", ""))):
            self.found.add_format(kind)
        self._limit(schema)

    def _is_wanted(self, schema: Mapping[str, Any]) -> bool:
        return any(is_language(name) or is_hint(name) for name in schema.get("properties") or {})

    def _document(self, schema: Mapping[str, Any], depth: int = 0) -> dict[str, Any]:
        made: dict[str, Any] = {}
        required = schema.get("required") or []
        for name, inner in (schema.get("properties") or {}).items():
            if not isinstance(inner, Mapping):
                continue
            has_recording = self.found.takes_audio or self.found.takes_link
            if not has_recording and is_bytes(name, inner):
                self.found.takes_audio = True
                self._limit(inner)
                made[name] = "{audio|base64}"
            elif inner.get("type") == "object" and depth < 4:
                found = self._document(inner, depth + 1)
                if found:
                    made[name] = found
            elif is_field_for_link(name, inner):
                if not has_recording:
                    self.found.takes_link = True
                    made[name] = "{recording_url}"
            else:
                value, _ = self._value(name, inner, required=name in required)
                if value is not None:
                    made[name] = value
        return made

    def _value(self, name: str, schema: Mapping[str, Any], *, required: bool) -> tuple[Any, str]:
        """What is sent in a field, and what else could be; None when it is left out."""
        choices = [value for value in schema.get("enum") or [] if value is not None]
        template = self._template_for(name, schema, choices)
        if template is not None:
            return template, ""
        if re.search(r"callback|web.?hook", name, re.I):
            self.found.notes.append(
                f"{name!r} was left out: see [callback] in the manual if the engine is to call back"
            )
            return None, ""
        known = choices[0] if choices else None
        for key in ("example", "default", "const"):
            known = schema.get(key, known)
        others = ""
        if len(choices) > 1:
            others = f"one of {', '.join(map(str, choices[:8]))}"
        if re.search(r"word|timestamp|times", name, re.I) and schema.get("type") == "boolean":
            return True, "asks for the times of words"
        if re.search(r"(response|output|result).?format|granular|^format$", name, re.I) and choices:
            detailed = re.compile("detail|word|json|verbose", re.I)
            best = (value for value in choices if detailed.search(str(value)))
            return next(best, known), others
        if not required:
            return None, ""
        return self._required(name, schema, known, others)

    def _required(
        self, name: str, schema: Mapping[str, Any], known: Any, others: str
    ) -> tuple[Any, str]:
        """What is sent in a field that has to be there; a key, or what may be one, as a secret."""
        if known is None:
            known = {"boolean": True, "integer": 1, "number": 1}.get(str(schema.get("type")), "...")
            others = others or "fill this in"
        if is_key(name) or looks_random(str(known)):
            return self.found.keep_key(str(known), name), ""
        return known, others

    def _template_for(
        self, name: str, schema: Mapping[str, Any], choices: Sequence[Any]
    ) -> str | None:
        """The placeholder that a field stands for; None where it is an ordinary one."""
        kind = schema.get("type")
        if is_language(name) and kind in ("string", None):
            tags = [value for value in choices if re.fullmatch(r"[a-z]{2,3}([-_]\w+)*", str(value))]
            self.languages = self.languages or list(map(str, tags))
            return "{language}"
        if is_hint(name) and kind == "array":
            return "{hints}"
        formats = {str(value): form for value in choices if (form := format_called(str(value)))}
        is_format = re.search(r"format|encod|codec|type", name, re.I)
        if formats and is_format and len(formats) >= 0.5 * len(choices):
            for given, form in formats.items():
                self.found.add_format(given)
                if given.lower() != form:
                    self.found.format_names.setdefault(form, given)
            return "{format}"
        if re.search(r"hertz|sample.?rate", name, re.I):
            return "{sample_rate}"
        return None

    def _ask(self, asking: NextRequest, fetching: NextRequest | None) -> None:
        card = self.card
        name = "job"
        if not asking.path:  # the answer has the whole address
            name = "place"
        card.key(f"take.{name}", asking.take, asking.doubt)
        card.table("steps.ask")
        self._address(asking, name)
        properties: Mapping[str, Any] = {}
        if asking.operation is not None:
            properties = schema_of(asking.operation).get("properties") or {}
        state = next((key for key in properties if STATE.search(key)), None)
        if state is not None:
            card.key("state", quoted_name(state))
            self._states(list(map(str, properties[state].get("enum") or [])))
        else:
            card.key("interval", "5 s")
            card.comment("not sure: so, 202 means waiting and 200 done")
        if fetching is None:
            return
        if fetching.take:
            card.key("take.result", fetching.take, fetching.doubt)
        card.table("steps.fetch")
        if fetching.take:
            fetching = replace(fetching, path=fetching.path.replace("{job}", "{result}"))
        self._address(fetching, "result")

    def _address(self, request: NextRequest, name: str) -> None:
        """Where a later request goes."""
        if not request.path or request.path.startswith("{place}"):
            self.card.key("url", request.path or f"{{{name}}}")
            return
        others = [one for one in re.findall(r"\{([^}]+)\}", request.path) if one not in _OWN_NAMES]
        path = request.path
        for other in others:
            self.found.values.setdefault(_plain_name(other), "...")
            path = path.replace(f"{{{other}}}", f"{{{_plain_name(other)}}}")
        self.card.key("path", path)

    def _states(self, states: Sequence[str]) -> None:
        """What the states of a job mean, by their names."""
        card = self.card
        waiting, done, failed = sorted_states(states)
        guessed = []
        if not done and len(waiting) > 1:
            guessed = [waiting.pop()]  # the last one usually is the end
        for key, values in (("waiting", waiting), ("done", done + guessed), ("failed", failed)):
            if values:
                card.key(key, values)
        if not states:
            card.comment(
                "say which states there are: waiting = [...], done = [...], failed = [...]"
            )
        unclear = unclear_states(waiting) + guessed
        if unclear:
            card.comment(f"not sure: {', '.join(unclear)}")

    def _reply(self, operation: Operation | None) -> None:
        card = self.card
        if operation is None:
            card.table("reply")
            until = f"until an answer is learnt: engines learn ANSWER --add {card.name}"
            card.key("format", "text", until)
            return
        for media in operation.answers.values():
            tried = self._learnt_from_example(media)
            if tried is not None:
                card.append(tried)
                return
        kinds = list(operation.answers)
        card.table("reply")
        text = next((kind for kind in kinds if kind.startswith("text/") or "subrip" in kind), None)
        if text is not None and not any("json" in kind for kind in kinds):
            card.key("format", text_format(text))
            return
        ReplyWriter(card).write(schema_of(operation))

    def _learnt_from_example(self, media: Mapping[str, Any]) -> Proposal | None:
        example = next(examples_of(media), None)
        if example is None:
            return None
        sample = example if isinstance(example, str) else json.dumps(example)
        tried = Proposal(self.card.name)
        try:
            propose_reply(sample.encode(), tried)
        except InputError:  # nothing can be proposed by this sample
            return None
        return tried


_OWN_NAMES = ("job", "result")


def _plain_name(name: str) -> str:
    plain = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name).lower()
    return re.sub(r"[^a-z0-9_]+", "_", plain).strip("_") or "value"
