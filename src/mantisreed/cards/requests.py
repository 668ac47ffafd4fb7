"""Building the requests that a card describes. Nothing is sent here."""

import secrets as randomness
import uuid
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import chain
from typing import Any
from urllib.parse import quote, urlencode

from mantisreed.cards.bodies import Attachment, Body, SentPart, _pairs
from mantisreed.cards.card import Every, ServiceCard
from mantisreed.cards.filters import as_text
from mantisreed.cards.late_values import (
    OVER_HEADERS,
    LateValues,
    authorization_of,
    put_header,
)
from mantisreed.cards.steps import Step
from mantisreed.cards.templates import ListTemplate, Template, Value, Values
from mantisreed.errors import BadRequestError, EngineError, UnreadableReplyError
from mantisreed.secrets import Secret
from mantisreed.urls import UrlError, origin_of, resolved, split_url

Pairs = tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class HttpRequest:
    """A request, ready for a transport. Its text never shows headers, query or body, which may hold
    secrets.

    Attributes:
        engine: the card's name, for messages.
        step: which table of the card it follows.
        method, url: as in HTTP; the URL is whole, with its query.
        headers: with secrets filled in, in order.
        timeout: seconds for the whole exchange.
        body: None for none.
        parts: of a multipart body, for showing it.
        follow_redirects: whether to go where a redirect points to; headers go along to the same
            origin only.
        secrets: what must be hidden in anything that is shown of the request or its answer.
        digest: user and password for digest authentication; None for none.
        on_block: told each block of the answer as it comes; None for nobody.
    """

    engine: str
    step: str
    method: str
    url: str = field(repr=False)
    headers: Pairs = field(default=(), repr=False)
    timeout: float = 300.0
    body: bytes | None = field(default=None, repr=False)
    parts: tuple[SentPart, ...] = field(default=(), repr=False)
    follow_redirects: bool = False
    secrets: tuple[Secret, ...] = ()
    digest: tuple[str, str] | None = field(default=None, repr=False)
    on_block: Callable[[bytes], None] | None = field(default=None, repr=False, compare=False)

    def header(self, name: str) -> str | None:
        """The value of a header."""
        return next((value for key, value in self.headers if key.lower() == name.lower()), None)


@dataclass(frozen=True, slots=True)
class RequestContext:
    """What a request is made of, besides its step.

    Attributes:
        values: what placeholders stand for, secrets among them.
        secrets: by their names on the card.
        attachment: what `{audio}` is; None for steps without it.
        taken: names of values that an answer gave.
        hidden: values that are not shown, besides the card's secrets.
        hidden_names: their names.
        bases: the URL of the request whose answer gave a value; a link is resolved against it.
        now: the moment of the request.
    """

    values: Values = field(repr=False)
    secrets: Mapping[str, Secret] = field(default_factory=dict)
    attachment: Attachment | None = None
    taken: frozenset[str] = frozenset()
    hidden: tuple[Secret, ...] = ()
    hidden_names: frozenset[str] = frozenset()
    bases: Mapping[str, str] = field(default_factory=dict)
    now: datetime | None = None


class RequestBuilder:
    """Builds the requests of one card."""

    def __init__(self, card: ServiceCard, boundary: Callable[[], str] | None = None) -> None:
        """`boundary` gives what parts a multipart body is parted by; tests and digests want the
        same each time.
        """
        self._card = card
        self._boundary = boundary or (lambda: f"mantisreed-{randomness.token_hex(12)}")
        #: placeholders that are, or are made of, the card's secrets
        self.secret_names = secret_names_of(card)

    def own_url(self, values: Values) -> str | None:
        """The card's URL; None when one of its placeholders has no value."""
        if self._card.url:
            return self._card.url.text(values)
        return None

    def request(self, name: str, step: Step, context: RequestContext) -> HttpRequest:
        """The request of one step.

        Raises:
            UnreadableReplyError: a part of the URL needs a value that an earlier answer did not
                have.
            BadRequestError: the URL is none, or a key would go to a host that the card does not
                name.
        """
        values = self._scope(context)
        url, is_own = self._url(name, step, values, context)
        self._check_keys(name, step, url, context, is_own=is_own)
        rendered = Body.of(step, values, context.attachment, self._boundary)
        late = LateValues(self._card, values)
        # In this order: signatures may be over the body, then over the address, then over the
        # headers.
        late.set(method=step.verb, body=rendered.content or b"")
        url = self._with_query(url, step, late, is_own=is_own)
        headers = self._headers(step, late, _headers_of_body(step, rendered), is_own=is_own)
        self._check_headers(name, headers)
        hidden = (*context.secrets.values(), *context.hidden, *late.secrets)
        return HttpRequest(
            self._card.name,
            name,
            step.verb,
            url,
            tuple(headers),
            float(step.timeout),
            rendered.content,
            rendered.parts,
            step.follow_redirects,
            # An empty text would be hidden everywhere.
            tuple(secret for secret in hidden if secret.reveal()),
            # Nobody else gets to see the name, or to ask for the password.
            self._digest(values) if is_own else None,
        )

    def _digest(self, values: Values) -> tuple[str, str] | None:
        """User and password for digest authentication."""
        template = self._card.every.digest
        written = template.text(values) if template is not None else None
        if written is None:
            return None
        # A password may hold colons; a user's name may not (RFC 7617).
        user, _, password = written.partition(":")
        return user, password

    def _scope(self, context: RequestContext) -> dict[str, Value]:
        now = context.now or datetime.now(UTC)
        own = {"now": now, "uuid": str(uuid.uuid4()), "nonce": randomness.token_hex(16)}
        if context.attachment is None:
            attached = {}
        else:
            attached = {"audio": context.attachment.content}
        scope = {**own, **context.values, **attached}
        # The card's values may be made of what is new in each request, such as the time.
        if self._card.values:
            return {**scope, **values_of_card(self._card, scope)}
        return scope

    def _url(
        self, name: str, step: Step, values: Values, context: RequestContext
    ) -> tuple[str, bool]:
        """Where a step's request goes, and whether that is the card's own host (or one that gets
        its keys).
        """
        base = self.own_url(values)
        try:
            if step.url is not None:
                link = _filled_url(step.url, values)
                first = next(iter(step.url.names), None)
                begins_taken = first in context.taken and step.url.source.startswith("{")
                if begins_taken:
                    against = context.bases.get(first or "", base)
                else:
                    against = base
                if link is None:
                    url = None
                else:
                    url = resolved(link, against or "")
            else:
                url = self._path_on(base, step.path, values, context)
        except UrlError as error:
            raise self._wrong(f"the URL of step {name} cannot be used: {error}") from error
        if url is None:
            raise self._lacking(
                name,
                [*(step.url or step.path).names, *(self._card.url.names if self._card.url else ())],
                values,
            )
        # Scheme, host and port: another port is another service.
        is_own = base is not None and origin_of(url) == origin_of(base)
        return url, is_own or step.keys

    def _path_on(
        self, base: str | None, template: Template, values: Values, context: RequestContext
    ) -> str | None:
        path = _filled_path(template, values)
        if base is None or path is None:
            return None
        # The scheme is at the beginning, or it is a part of a query.
        if template.is_one_placeholder and "://" in path[:12]:  # an earlier answer gave a whole URL
            return resolved(path, base)
        _check_segments(template, values)
        base, question, query = base.partition("?")
        return resolved(
            (base.rstrip("/") if path.startswith("/") else base) + path + question + query, base
        )

    def _check_keys(
        self, name: str, step: Step, url: str, context: RequestContext, *, is_own: bool
    ) -> None:
        """See that keys only go where the card's author sends them, not where an answer says."""
        if is_own or not self._is_chosen_by_answers(step, url, context):
            return
        # Also what is only signed with a secret: a signature lets its holder in as well.
        needed = set(step.names) | set(chain.from_iterable(map(self._signed_names, step.names)))
        secret = next(
            (
                key
                for key in sorted(needed)
                if key in self.secret_names | context.hidden_names - context.taken
            ),
            None,
        )
        if secret is not None:
            scheme, host, _ = origin_of(url)
            error = self._wrong(
                f"step {name} would send {{{secret}}} to {scheme}://{host}, a host that an answer "
                "named"
            )
            error.advice = "if that is right, set keys = true in this step of its card"
            raise error

    def _is_chosen_by_answers(self, step: Step, url: str, context: RequestContext) -> bool:
        """Whether the host of a URL comes from an answer rather than from the card."""
        template = step.url or step.path
        if not any(name in context.taken for name in template.names):
            return False
        # The same address with other values: where the host changes with them, an answer has chosen
        # it.
        symbols = {**context.values, **dict.fromkeys(context.taken, "x")}
        written = template.text(symbols) or ""
        try:
            return origin_of(resolved(written, self.own_url(symbols) or "")) != origin_of(url)
        except UrlError:
            return True

    def _signed_names(self, name: str) -> Iterator[str]:
        signature = self._card.sign.get(name)
        if signature is not None:
            yield from (*signature.key.names, *signature.text.names)

    def _with_query(self, url: str, step: Step, late: LateValues, *, is_own: bool) -> str:
        """The URL with all of its query; what is signed over it comes last."""
        if is_own:
            tables = [self._card.every.query, step.query]
        else:
            tables = [step.query]
        fields = {}
        for table in tables:
            fields.update(table)
        # What is signed may be the query itself, without the signature in it.
        early = [item for item in fields.items() if not late.is_late(item[1])]
        url = _extended(url, _pairs(dict(early), late.values))
        parts = split_url(url)
        late.set(url=url, host=parts.netloc, path=parts.path or "/", query=parts.query)
        rest = {key: template for key, template in fields.items() if late.is_late(template)}
        return _extended(url, _pairs(rest, late.with_signatures(rest.values())))

    def _headers(
        self, step: Step, late: LateValues, of_body: Pairs, *, is_own: bool
    ) -> list[tuple[str, str]]:
        """All headers of a request; those that are signed over the others come last.

        Args:
            step: of the card.
            late: with the request's parts.
            of_body: what the body needs, where the card does not say it.
            is_own: whether what goes with every request goes with it.
        """
        every = self._card.every
        sources: list[Every | Step] = [step]
        if is_own:
            sources = [every, step]
        headers: dict[str, list[tuple[str, str]]] = {}
        over_headers: list[tuple[str, ListTemplate]] = []
        for source in sources:
            # Headers that a card writes out come before `bearer` and `basic` of the same table.
            proof = authorization_of(source, late)
            if proof is not None:
                headers["authorization"] = [("Authorization", proof)]
            for name, template in source.headers.items():
                if late.needs(template, OVER_HEADERS):
                    over_headers.append((name, template))
                else:
                    put_header(headers, name, template, late)
        for name, value in of_body:
            # The card's own type of the body stays.
            headers.setdefault(name.lower(), [(name, value)])
        late.set_headers(chain.from_iterable(headers.values()))
        for name, template in over_headers:
            put_header(headers, name, template, late)
        return list(chain.from_iterable(headers.values()))

    def _check_headers(self, name: str, headers: Iterable[tuple[str, str]]) -> None:
        for key, value in headers:
            if any(
                # A line break would begin another header, or another request.
                (ord(character) < 0x20 and character != "\t") or character == "\x7f"
                for character in key + value
            ):
                raise self._wrong(
                    f"header {key!r} of step {name} would hold a line break or control character"
                )

    def _wrong(self, what: str) -> EngineError:
        return BadRequestError(what, engine=self._card.name)

    def _lacking(self, name: str, needed: Iterable[str], values: Values) -> EngineError:
        # The first that has no value; of several one is enough to look for.
        missing = next((key for key in needed if values.get(key) in (None, "")), "url")
        error = UnreadableReplyError(
            f"the URL of step {name} needs {{{missing}}}, which has no value",
            engine=self._card.name,
            advice="was it in the answer of a step before? 'take' says where to look",
        )
        # Nothing was sent.
        error.may_be_charged = False
        return error


def secret_names_of(card: ServiceCard) -> frozenset[str]:
    """The placeholders that are, or are made of, a card's secrets."""
    found = set(card.secrets)
    if card.session is not None:
        found |= set(card.session.take)
    for name, template in card.values.items():
        if found.intersection(template.names):
            found.add(name)
    return frozenset(found)


def values_of_card(card: ServiceCard, values: Values) -> dict[str, Value]:
    """The card's own values, filled; each may be made of those before it."""
    # In the order of the card, so that a value may be made of those before it.
    known = dict(values)
    for name, template in card.values.items():
        known[name] = template.value(known)
    return {name: known[name] for name in card.values}


def _headers_of_body(step: Step, body: Body) -> Pairs:
    found: list[tuple[str, str]] = []
    if body.content_type:
        found.append(("Content-Type", body.content_type))
    if step.gzip and body.content is not None:
        found.append(("Content-Encoding", "gzip"))
    return tuple(found)


def _filled_url(template: Template, values: Values) -> str | None:
    """A template as a URL: a value at its beginning is a URL or a path itself, others are parts of
    one.
    """
    begins_with_value = template.source.startswith("{")
    seen: list[str] = []

    def encode(value: str) -> str:
        seen.append(value)
        is_link = begins_with_value and len(seen) == 1
        # A whole link keeps its query; any other value is one part of a path or query.
        return quote(value, safe=_URL_CHARACTERS if is_link else _PATH_CHARACTERS)

    return template.text(values, encode)


def _filled_path(template: Template, values: Values) -> str | None:
    """A template as a path; one value alone may bring a query of its own."""
    if template.is_one_placeholder:
        return _filled_url(template, values)
    return template.text(values, lambda value: quote(value, safe=_PATH_CHARACTERS))


_PATH_CHARACTERS = "/:@~"
_URL_CHARACTERS = (
    "/:@~?&=%#+,;!$'()*[]"  # RFC 3986, 2.2, and the percent sign of what is encoded already
)


def _check_segments(template: Template, values: Values) -> None:
    """See that a value does not climb out of the path that the card gives."""
    for name in template.names:
        value = values.get(name)
        # A value such as `../admin` would lead elsewhere on the same host.
        if isinstance(value, str) and any(segment in (".", "..") for segment in value.split("/")):
            raise UrlError(f"the value of {{{name}}} holds a segment of dots")


def _extended(url: str, pairs: list[tuple[str, str]]) -> str:
    if not pairs:
        return url
    # The query stands before the fragment (RFC 3986, 3.5).
    url, hash_sign, fragment = url.partition("#")
    joint = "&" if "?" in url else "?"
    return url + joint + urlencode(pairs, quote_via=quote, safe="") + hash_sign + fragment


def as_json_value(value: Any) -> Any:
    """A value that can be kept as JSON: bytes and moments as their text."""
    if isinstance(value, (str, int, float, bool, list, dict, type(None))):
        return value
    return as_text(value)
