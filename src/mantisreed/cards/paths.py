"""Where values are: JMESPath in documents, and the other places of an answer."""

import copy
import json
import re
from collections.abc import Callable, Iterator, Mapping
from typing import TYPE_CHECKING, Any, Self

import jmespath
import jmespath.exceptions
import jmespath.parser

if TYPE_CHECKING:
    from mantisreed.cards.wire.http_answer import HttpAnswer

_Getter = Callable[[Any], Any]
_BARE_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_PLACEHOLDER = re.compile(r"\{([a-z_][a-z0-9_]*)\}")  # which is nothing that JMESPath has


def quoted_name(name: str) -> str:
    """A name as JMESPath has it: in quotes where it holds more than letters, digits and
    underscores.
    """
    if _BARE_NAME.fullmatch(name):
        return name
    return json.dumps(name)


class ReplyPath:
    """A JMESPath expression, compiled when the card is read.

    Attributes:
        source: as it is written on the card.
        list_names: names of what the expression takes for a list; an XML document does not say
            which of its elements are lists, if there happens to be one only.
    """

    def __init__(self, source: str) -> None:
        """Compile an expression.

        Raises:
            ValueError: it is none.
        """
        self.source = source
        try:
            self._compiled: jmespath.parser.ParsedResult = jmespath.compile(source)
        except jmespath.exceptions.JMESPathError as error:
            raise ValueError(f"{source!r} is not a JMESPath expression") from error
        self.list_names = frozenset(_listed_names(self._compiled.parsed))
        self._keys = _simple_keys(self._compiled.parsed)

    @classmethod
    def from_toml(cls, value: object) -> "ReplyPath":
        """Compile what stands on a card.

        Raises:
            ValueError: it is no expression.
        """
        if not isinstance(value, str) or not value:
            raise ValueError(f"expected a JMESPath expression, found {value!r}")
        return cls(value)

    def find(self, document: object) -> Any:
        """What the expression picks out of the document; None when there is nothing it can be used
        on.
        """
        if self._keys is not None:
            return _walked(document, self._keys)
        try:
            return self._compiled.search(document)
        except (jmespath.exceptions.JMESPathError, TypeError, ValueError, RecursionError):
            return None

    @property
    def names(self) -> tuple[str, ...]:
        """The placeholders in it: `jobs[?id == '{job}'].state`."""
        return tuple(_PLACEHOLDER.findall(self.source))

    def filled(self, values: Mapping[str, Any]) -> Self:
        """The same with values for its placeholders."""
        if not self.names:
            return self
        return type(self)(_filled(self.source, values))

    @property
    def last_name(self) -> str | None:
        """The name of what a plain path ends at."""
        names = [key for key in self._keys or () if isinstance(key, str)]
        if names:
            return names[-1]
        return None

    @property
    def root_names(self) -> frozenset[str]:
        """The names that are looked up in the document itself, rather than in something in it."""
        return frozenset(_root_names(self._compiled.parsed))

    def __str__(self) -> str:
        return self.source

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ReplyPath) and other.source == self.source

    def __hash__(self) -> int:
        return hash(self.source)


class Condition(ReplyPath):
    """A JMESPath expression that holds or does not; as in JMESPath, an empty value does not."""

    def holds(self, document: object) -> bool:
        """Whether it holds."""
        found = self.find(document)
        # Zero is a value: `confidence > 0` would say otherwise.
        return found is not None and found is not False and found not in ("", [], {})

    def holds_in(self, answer: "HttpAnswer") -> bool:
        """Whether it holds for an answer; of lines and events, for any of them."""
        return any(self.holds(document) for document in answer.documents(self.list_names))


def _filled(source: str, values: Mapping[str, Any]) -> str:
    def value(match: re.Match[str]) -> str:
        return str(values.get(match[1], "")).replace("\\", "\\\\").replace("'", "\\'")

    return _PLACEHOLDER.sub(value, source)


_Key = str | int


def _simple_keys(node: Mapping[str, Any]) -> tuple[_Key, ...] | None:
    """The names and indices of a plain path such as `a.b[0]`; None for any other expression.

    Nearly all paths on cards are plain, and walking them is ten times faster than the general way.
    """
    kind = node["type"]
    if kind in ("identity", "current"):
        return ()
    if kind == "field":
        return (node["value"],)
    if kind == "index":
        return (node["value"],)
    if kind in ("subexpression", "index_expression"):
        keys: tuple[_Key, ...] = ()
        for child in node["children"]:
            found = _simple_keys(child)
            if found is None:
                return None
            keys += found
        return keys
    return None


def _walked(document: Any, keys: tuple[_Key, ...]) -> Any:
    for key in keys:
        if isinstance(key, str):
            if not isinstance(document, dict):
                return None
            document = document.get(key)
        elif not isinstance(document, list) or not -len(document) <= key < len(document):
            return None
        else:
            document = document[key]
    return document


# An XML element that occurs once is no list by itself; that these are is known from the path.
_LISTED = ("projection", "filter_projection", "flatten", "index_expression")


def _listed_names(node: Mapping[str, Any]) -> Iterator[str]:
    """Names of what an expression treats as a list."""
    children = node["children"]
    if node["type"] in _LISTED and children and (name := _final_name(children[0])):
        yield name
    for child in children:
        if isinstance(child, dict):
            yield from _listed_names(child)


def _final_name(node: Mapping[str, Any]) -> str | None:
    if node["type"] == "field":
        name: str = node["value"]
        return name
    if node["type"] in (
        "subexpression",
        "projection",
        "filter_projection",
        "index_expression",
        "flatten",
    ):
        if node["type"] != "flatten":
            inner = node["children"][-1]
        else:
            inner = node["children"][0]
        if node["type"] == "filter_projection":
            inner = node["children"][1]
        if inner["type"] in ("identity", "index"):
            inner = node["children"][0]
        return _final_name(inner)
    return None


_WITHIN_FIRST = (
    "subexpression",
    "index_expression",
    "projection",
    "filter_projection",
    "value_projection",
    "pipe",
)


def _root_names(node: Mapping[str, Any]) -> Iterator[str]:
    if node["type"] == "field":
        yield node["value"]
        return
    if node["type"] in _WITHIN_FIRST:
        children = node["children"][:1]
    else:
        children = node["children"]
    for child in children:
        if isinstance(child, dict):
            yield from _root_names(child)


def _newest(path: ReplyPath, answer: "HttpAnswer") -> Any:
    """What a path finds; of lines and events in the last one that has it, such as the newest state
    or token.
    """
    # The newest state counts, and a stream has many.
    for document in reversed(answer.documents(path.list_names)):
        found = path.find(document)
        if found is not None:
            return found
    return None


_PLACES = ("header", "cookie", "link", "text", "status")
# Only the end of the name: `token_type` is none.
_SECRET_NAME = re.compile(
    r"(?:^|[._-])(?:(?:access|refresh|id|auth|session|bearer|security)[_-]?token|token|bearer|jwt|password|secret)$",
    re.IGNORECASE,
)
_TAKE_KEYS = ("from", "match", "secret", "optional")


class Take:
    """Where a value is in an answer.

    `header:NAME`, `cookie:NAME`, `link:RELATION` (RFC 8288), `text:` for the whole answer,
    `status:`, or a JMESPath expression into a JSON or XML document. On a card it is that text, or a
    table with more to say.

    Attributes:
        source: as it is written on the card.
        path: the expression; None for the other places.
        is_optional: whether the answer may lack it.
    """

    def __init__(
        self,
        place: str,
        match: str | None = None,
        *,
        secret: bool | None = None,
        optional: bool = False,
    ) -> None:
        """Compile it.

        Args:
            place: where the value is.
            match: a regular expression; its first group, or all that it matches, is the value.
            secret: whether it is one; None decides by where it is found.
            optional: whether the answer may lack it.

        Raises:
            ValueError: the place or the regular expression is none.
        """
        kind, colon, name = place.partition(":")
        if colon and kind in _PLACES:
            self._kind = kind
        else:
            self._kind = "path"
        self._name = name.strip()
        if self._kind in ("header", "cookie", "link") and not self._name:
            raise ValueError(f"{place!r} lacks a name after the colon")
        self.path: ReplyPath | None = None
        if self._kind == "path":
            self.path = ReplyPath(place)
        self._match: re.Pattern[str] | None = None
        try:
            if match is not None:
                self._match = re.compile(match)
        except re.error as error:
            raise ValueError(f"{match!r} is not a regular expression") from error
        self._says_secret = secret
        self._looks_secret = self._kind == "cookie" or bool(_SECRET_NAME.search(place.strip('"')))
        self.is_optional = optional
        self.source: object = place

    @classmethod
    def from_toml(cls, value: object) -> "Take":
        """Compile what stands on a card.

        Raises:
            ValueError: it is no place in an answer.
        """
        if isinstance(value, str) and value:
            return cls(value)
        if not isinstance(value, dict):
            raise ValueError(f"expected where it is in the answer, found {value!r}")
        unknown = [key for key in value if key not in _TAKE_KEYS]
        if unknown:
            raise ValueError(f"unknown key {unknown[0]!r}\nkeys here: {', '.join(_TAKE_KEYS)}")
        place, match = value.get("from", "text:"), value.get("match")
        if not isinstance(place, str) or not isinstance(match, (str, type(None))):
            raise ValueError("expected texts for 'from' and 'match'")
        secret, optional = value.get("secret"), value.get("optional", False)
        if not isinstance(secret, (bool, type(None))) or not isinstance(optional, bool):
            raise ValueError("expected true or false for 'secret' and 'optional'")
        take = cls(place, match, secret=secret, optional=optional)
        take.source = value
        return take

    @property
    def names(self) -> tuple[str, ...]:
        """The placeholders in its expression."""
        if self.path is not None:
            return self.path.names
        return ()

    def filled(self, values: Mapping[str, Any]) -> "Take":
        """The same with values for its placeholders."""
        if self.path is None or not self.path.names:
            return self
        twin = copy.copy(self)
        twin.path = self.path.filled(values)
        return twin

    def hides(self, name: str) -> bool:
        """Whether the value is hidden and never kept, when it is called so on the card.

        Cookies are, and what is named as a token or a password is, unless the card says otherwise.
        """
        if self._says_secret is not None:
            return self._says_secret
        return self._looks_secret or bool(_SECRET_NAME.search(name))

    def find(self, answer: "HttpAnswer") -> Any:
        """The value; None when it is not there."""
        found = self._found(answer)
        if self._match is None or found is None:
            if found not in ("", [], {}):
                return found
            return None
        matched = self._match.search(found if isinstance(found, str) else str(found))
        if matched is None:
            return None
        if self._match.groups:
            return matched[1]
        return matched[0]

    def _found(self, answer: "HttpAnswer") -> Any:
        if self.path is not None:
            return _newest(self.path, answer)
        if self._kind == "header":
            return answer.header(self._name)
        if self._kind == "cookie":
            return answer.cookie(self._name)
        if self._kind == "link":
            return answer.link(self._name)
        if self._kind == "status":
            return answer.status
        return answer.text.strip()

    def __str__(self) -> str:
        return str(self.source)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Take) and other.source == self.source

    def __hash__(self) -> int:
        return hash(str(self.source))
