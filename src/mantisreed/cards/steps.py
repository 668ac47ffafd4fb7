"""A step of a card: one request, and what is taken from its answer."""

from collections.abc import Iterator
from functools import cached_property
from itertools import chain
from typing import Annotated, Any, Literal, Self

import msgspec
from msgspec import structs

from mantisreed.cards.paths import Condition, ReplyPath, Take
from mantisreed.cards.tables import Bytes, Seconds
from mantisreed.cards.templates import DocumentTemplate, ListTemplate, Template, Values, scalar_text

Method = Annotated[str, msgspec.Meta(pattern="^[A-Z]{3,20}$")]

Status = Annotated[int, msgspec.Meta(ge=100, le=599)]

StateValue = str | int | float | bool


class Table(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A TOML table whose keys are all known."""


_PART_KEYS = ("value", "json", "content_type", "file_name")


class FormPart:
    """One part of a multipart form: text, or a table that says more about it.

    Attributes:
        source: as it is written on the card.
        value: template of its content; None where it is JSON.
        json: its content as a document; None where it is none.
        content_type, file_name: templates; None for what is usual.
    """

    __slots__ = ("content_type", "file_name", "json", "source", "value")

    def __init__(self, source: object) -> None:
        """Compile it.

        Raises:
            ValueError: it is neither text nor such a table.
        """
        self.source = source
        if isinstance(source, dict):
            table = source
        else:
            table = {"value": source}
        unknown = [key for key in table if key not in _PART_KEYS]
        if unknown:
            raise ValueError(
                f"unknown key {unknown[0]!r} of a form part\nkeys here: {', '.join(_PART_KEYS)}"
            )
        # Equal where both are there, and where neither is.
        if ("value" in table) == ("json" in table):
            raise ValueError("a form part needs one of the keys 'value' and 'json'")
        self.value: ListTemplate | None = None
        if "value" in table:
            self.value = ListTemplate(table["value"])
        self.json: DocumentTemplate | None = None
        if "json" in table:
            self.json = DocumentTemplate(table["json"])
        self.content_type = _optional_template(table.get("content_type"))
        self.file_name = _optional_template(table.get("file_name"))

    @property
    def templates(self) -> Iterator[Template]:
        """Every text in it."""
        yield from self.value.items if self.value else ()
        yield from self.json.templates if self.json else ()
        yield from (template for template in (self.content_type, self.file_name) if template)


class FormParts:
    """The parts of a form of one name: usually one.

    Attributes:
        source: as it is written on the card.
        parts: them.
    """

    __slots__ = ("parts", "source")

    def __init__(self, source: object) -> None:
        self.source = source
        parts = [source]
        if isinstance(source, list) and any(isinstance(item, dict) for item in source):
            parts = source
        self.parts = tuple(map(FormPart, parts))

    @classmethod
    def from_toml(cls, value: object) -> "FormParts":
        """Compile what stands on a card.

        Raises:
            ValueError: it is no part.
        """
        return cls(value)

    @property
    def templates(self) -> Iterator[Template]:
        """Every text in them."""
        for part in self.parts:
            yield from part.templates

    def __eq__(self, other: object) -> bool:
        return isinstance(other, FormParts) and other.source == self.source

    def __hash__(self) -> int:
        return hash(str(self.source))


def _optional_template(value: object) -> Template | None:
    if value is None:
        return None
    return Template(scalar_text(value))


class Messages:
    """Messages to send, in order: a table is sent as JSON, a text as it is.

    Attributes:
        source: as it is written on the card.
        items: them.
    """

    __slots__ = ("items", "source")

    def __init__(self, source: object) -> None:
        self.source = source
        self.items = tuple(map(DocumentTemplate, source if isinstance(source, list) else [source]))

    @classmethod
    def from_toml(cls, value: object) -> "Messages":
        """Compile what stands on a card."""
        return cls(value)

    @property
    def templates(self) -> Iterator[Template]:
        """Every text in them."""
        for item in self.items:
            yield from item.templates

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Messages) and other.source == self.source

    def __hash__(self) -> int:
        return hash(str(self.source))


class Pages(Table, frozen=True, kw_only=True):
    """`pages`: the answer comes in several pages; all of them together are the reply.

    Attributes:
        next_url: where the link to the next page is.
        next_token: where the token for the next page is; the step's templates have it as
            `{page_token}`.
        items: the list in each page, for services that count: the templates have `{page_offset}`
            and `{page_number}`; the last page is the one with an empty list.
        first: what `{page_offset}` or `{page_number}` begins with.
        more: a condition on a page; where it does not hold, the page is the last.
        limit: pages at most.
    """

    next_url: Take | None = None
    next_token: Take | None = None
    items: ReplyPath | None = None
    first: int = 0
    more: Condition | None = None
    limit: Annotated[int, msgspec.Meta(ge=1, le=100_000)] = 1000


class ChunkSize:
    """How many bytes a chunk has: a size, or one placeholder for what an earlier answer said.

    Attributes:
        source: as it is written on the card.
        fixed: bytes; None where an answer says it.
        names: of the placeholder.
    """

    __slots__ = ("_template", "fixed", "names", "source")

    def __init__(self, source: object) -> None:
        self.source = source
        self.fixed: int | None = None
        self._template = Template("")
        if isinstance(source, str) and source.startswith("{"):
            self._template = Template(source)
            if not self._template.is_one_placeholder:
                raise ValueError(f"expected a size or one placeholder, found {source!r}")
        else:
            self.fixed = int(Bytes.from_toml(source))
        self.names = self._template.names

    @classmethod
    def from_toml(cls, value: object) -> "ChunkSize":
        """Read what stands on a card.

        Raises:
            ValueError: it is neither a size nor a placeholder.
        """
        return cls(value)

    def bytes_of(self, values: Values) -> int | None:
        """The size; None where the values do not tell a sensible one."""
        if self.fixed is not None:
            return self.fixed
        found = self._template.value(values)
        try:
            size = int(found)
        except (TypeError, ValueError):
            return None
        return size if size > 0 else None

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ChunkSize) and other.source == self.source

    def __hash__(self) -> int:
        return hash(str(self.source))


class Chunks(Table, frozen=True, kw_only=True):
    """`chunks`: the body is sent in several requests; templates have `{chunk}` and where it is.

    Attributes:
        size: bytes of each but the last. None where the step's `url` is a list of links, one for
            each chunk: then all are of one size.
        received: where an answer says how much has arrived: a number of bytes, or a range such as
            `bytes=0-524287`.
        resume: a request that asks for it after a failure; without one, the same chunk is sent
            again.
        collect: what is taken from each answer; later steps have it as a list.
        item: what is said of each chunk later, with what was collected of its answer;
            `{chunk_items}` is the list.
    """

    size: ChunkSize | None = None
    received: Take | None = None
    resume: "Step | None" = None
    collect: dict[str, Take] = {}
    item: DocumentTemplate | None = None


class WebSocket(Table, frozen=True, kw_only=True):
    """`websocket`: the step is a conversation over a WebSocket (RFC 6455); the final messages are
    its answer.

    Attributes:
        subprotocol: template of what is asked for.
        first: messages to send before the audio.
        ready: a condition on a message of the service, that is waited for before the audio is sent.
        audio: the message that carries a chunk, with `{chunk|base64}`; without it chunks are binary
            messages.
        chunk: seconds of audio in each.
        speed: how many times as fast as it was spoken the audio is sent; None for as fast as the
            service takes it.
        last: messages after the audio.
        last_binary: whether an empty binary message says that the audio is over.
        partial, final, error, end: conditions on incoming messages. Without `final` all messages
            are final that are none of the others; without `end` the service closes the connection
            when it has said everything.
        partial_text: where the text of a partial message is.
    """

    subprotocol: Template | None = None
    first: Messages | None = None
    ready: Condition | None = None
    audio: DocumentTemplate | None = None
    chunk: Seconds = Seconds(0.1)
    speed: Annotated[float, msgspec.Meta(gt=0)] | None = None
    last: Messages | None = None
    last_binary: bool = False
    partial: Condition | None = None
    final: Condition | None = None
    error: Condition | None = None
    end: Condition | None = None
    partial_text: ReplyPath | None = None


class Step(Table, frozen=True, kw_only=True, dict=True):
    """One request, and what is made of its answer. At most one of `form`, `json`, `urlencoded` and
    `raw` is the body.

    Attributes:
        path: put after the card's `url`.
        url: instead of the card's; resolved as a link is (RFC 3986): a value that an earlier answer
            gave against the URL of that request, anything else against the card's.
        method: `POST` with a body, else `GET`.
        when: a condition on the values; where it does not hold, the step is skipped.
        headers, query: templates; a list gives several of a name.
        bearer, basic: as in `every`, for this step alone.
        form: parts of a multipart body.
        multipart: which kind of it.
        json: a document whose texts are templates.
        urlencoded: fields as browsers send them.
        raw: a template that is the body itself; `{audio}` for the bytes.
        content_type: of the body, where it is not the usual one.
        gzip: whether the body is sent packed.
        keys: whether keys may go with it though its host is not the card's.
        timeout: seconds for the whole request.
        follow_redirects: whether to go where a redirect points to.
        ok_statuses: statuses that are no error, besides 2xx.
        take: names, and where their values are in the answer; later steps have them as
            placeholders.
        state: where the state of the job is, for a step that is repeated until it is done.
        waiting, done, failed: what the service calls these states.
        waiting_when, done_when, failed_when: conditions on the answer that mean the same.
        waiting_statuses, done_statuses, failed_statuses: HTTP statuses that mean the same.
        reason: where it says why a job failed.
        interval: seconds before the first question; waits grow from there.
        max_interval: seconds between two questions at most.
        limit: seconds after which no more is asked by itself.
        starts_work: whether this step makes the service work, and so costs; None where the card's
            order shows it.
        cleanup: whether it only tidies up, after the reply is kept; it may fail.
        pages: the answer comes in pages.
        chunks: the body is sent in chunks.
        websocket: it is a conversation instead of one request.
    """

    path: Template = Template("")
    url: Template | None = None
    method: Method | None = None
    when: Condition | None = None
    headers: dict[str, ListTemplate] = {}
    query: dict[str, ListTemplate] = {}
    bearer: Template | None = None
    basic: Template | None = None
    form: dict[str, FormParts] | None = None
    multipart: Literal["form-data", "related", "mixed"] = "form-data"
    json: DocumentTemplate | None = None
    urlencoded: dict[str, ListTemplate] | None = None
    raw: Template | None = None
    content_type: Template | None = None
    gzip: bool = False
    keys: bool = False
    timeout: Seconds = Seconds(300)
    follow_redirects: bool = False
    ok_statuses: tuple[Status, ...] = ()
    take: dict[str, Take] = {}
    state: Take | None = None
    waiting: tuple[StateValue, ...] = ()
    done: tuple[StateValue, ...] = ()
    failed: tuple[StateValue, ...] = ()
    waiting_when: Condition | None = None
    done_when: Condition | None = None
    failed_when: Condition | None = None
    waiting_statuses: tuple[Status, ...] = ()
    done_statuses: tuple[Status, ...] = ()
    failed_statuses: tuple[Status, ...] = ()
    reason: Take | None = None
    interval: Seconds | None = None
    max_interval: Seconds = Seconds(30)
    limit: Seconds = Seconds(6 * 3600)
    starts_work: bool | None = None
    cleanup: bool = False
    pages: Pages | None = None
    chunks: Chunks | None = None
    websocket: WebSocket | None = None

    @property
    def is_asking(self) -> bool:
        """Whether it is repeated until a job is done."""
        return any(getattr(self, key) for key in ASKING_KEYS)

    @property
    def body_keys(self) -> list[str]:
        """Which of the keys that give a body it has."""
        return [
            key for key in ("form", "json", "urlencoded", "raw") if getattr(self, key) is not None
        ]

    @property
    def verb(self) -> str:
        """The HTTP method."""
        return self.method or ("POST" if self.body_keys else "GET")

    @property
    def templates(self) -> Iterator[Template]:
        """Every template of the request."""
        single = (self.path, self.url, self.bearer, self.basic, self.raw, self.content_type)
        yield from (template for template in single if template is not None)
        for table in (self.headers, self.query, self.urlencoded or {}):
            for field in table.values():
                yield from field.items
        for parts in (self.form or {}).values():
            yield from parts.templates
        yield from self.json.templates if self.json else ()
        if self.websocket:
            yield from _websocket_templates(self.websocket)

    @cached_property
    def names(self) -> frozenset[str]:
        """What its templates and its condition need."""
        named = frozenset(chain.from_iterable(template.names for template in self.templates))
        return named | (self.when.root_names if self.when else frozenset()) | self.names_in_paths

    @cached_property
    def names_in_paths(self) -> frozenset[str]:
        """What the paths into its answer need: `jobs[?id == '{job}'].state`."""
        paths = [getattr(self, key) for key in _PATH_KEYS]
        paths.append(self.pages.more if self.pages else None)
        return frozenset(
            chain.from_iterable(path.names for path in (*paths, *self.take.values()) if path)
        )

    def filled(self, values: Values) -> Self:
        """The same with values for the placeholders in its paths."""
        if not self.names_in_paths:
            return self
        paths: dict[str, Any] = {
            key: path.filled(values)
            for key in _PATH_KEYS
            if (path := getattr(self, key)) is not None
        }
        if self.pages is not None and self.pages.more is not None:
            paths["pages"] = structs.replace(self.pages, more=self.pages.more.filled(values))
        return structs.replace(
            self, **paths, take={key: take.filled(values) for key, take in self.take.items()}
        )


_PATH_KEYS = ("state", "waiting_when", "done_when", "failed_when", "reason")
"""Keys of a step whose values are paths into its answer, besides `take`."""

ASKING_KEYS = (
    *("state", "waiting", "done", "failed", "waiting_when", "done_when", "failed_when"),
    *("waiting_statuses", "done_statuses", "failed_statuses", "interval"),
)
"""Keys that make a step one that is repeated until a job is done."""


def _websocket_templates(websocket: WebSocket) -> Iterator[Template]:
    if websocket.subprotocol:
        yield websocket.subprotocol
    for holder in (websocket.first, websocket.audio, websocket.last):
        yield from holder.templates if holder else ()
