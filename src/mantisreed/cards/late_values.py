"""What a request holds that is only known when the rest of it is: signatures, and what they are
over.
"""

import base64
import hmac
from collections.abc import Iterable
from itertools import chain

from mantisreed.cards.card import Every, ServiceCard, Signature
from mantisreed.cards.filters import as_bytes
from mantisreed.cards.steps import Step
from mantisreed.cards.templates import ListTemplate, Template, Value
from mantisreed.secrets import Secret

OVER_HEADERS = ("headers", "header_names")
"""Placeholders for all headers but those that need them."""


_URL_SAFE = str.maketrans("+/", "-_")


class LateValues:
    """What is only known when a request is nearly made: its own parts, and signatures over them."""

    def __init__(self, card: ServiceCard, values: dict[str, Value]) -> None:
        self._card = card
        self.values = values
        self.secrets: list[Secret] = []

    def set(self, **parts: Value) -> None:
        """Note parts of the request, now that they are known."""
        self.values.update(parts)

    def set_headers(self, headers: Iterable[tuple[str, str]]) -> None:
        """Note the headers as they are signed: by small names in order, with the host, their white
        space folded.
        """
        pairs = [(name.lower(), " ".join(value.split())) for name, value in headers]
        pairs = sorted([*pairs, ("host", str(self.values["host"]))])
        names = dict.fromkeys(name for name, _ in pairs)
        self.set(
            headers="\n".join(f"{name}:{value}" for name, value in pairs),
            header_names=";".join(names),
        )

    def is_late(self, template: ListTemplate) -> bool:
        """Whether a template needs a signature."""
        names = chain.from_iterable(item.names for item in template.items)
        return any(name in self._card.sign for name in names)

    def needs(self, template: ListTemplate, parts: Iterable[str]) -> bool:
        """Whether a template needs one of these parts of the request, itself or by what it is
        signed with.
        """
        wanted, seen = set(parts), set()
        rest = list(chain.from_iterable(item.names for item in template.items))
        while rest:
            name = rest.pop()
            if name in wanted:
                return True
            if name in seen:
                continue
            seen.add(name)
            if name in self._card.sign:
                rest += (*self._card.sign[name].key.names, *self._card.sign[name].text.names)
        return False

    def with_signatures(self, templates: Iterable[ListTemplate | Template]) -> dict[str, Value]:
        """The values, with those signatures that the templates need."""
        for holder in templates:
            for template in holder.items if isinstance(holder, ListTemplate) else (holder,):
                for name in template.names:
                    if name in self._card.sign and name not in self.values:
                        self.values[name] = self._signature(self._card.sign[name])
        return self.values

    def _signature(self, signature: Signature) -> Value:
        self.with_signatures([signature.key, signature.text])
        key, text = signature.key.value(self.values), signature.text.whole_text(self.values)
        digest = hmac.digest(
            as_bytes(key if key is not None else ""), text.encode(), signature.hash
        )
        if signature.encoding == "raw":
            return digest
        if signature.encoding == "hex":
            return digest.hex()
        encoded = base64.b64encode(digest).decode()
        if signature.encoding == "base64":
            return encoded
        return encoded.translate(_URL_SAFE).rstrip("=")


def authorization_of(source: Step | Every, late: LateValues) -> str | None:
    """What `bearer` or `basic` of a table gives."""
    bearer, basic = source.bearer, source.basic
    if bearer and (key := bearer.text(late.with_signatures([bearer]))):
        return f"Bearer {key}"
    if basic and (pair := basic.text(late.with_signatures([basic]))):
        encoded = base64.b64encode(pair.encode()).decode()
        # In this form it would not be found by the secret itself.
        late.secrets.append(Secret(encoded))
        return f"Basic {encoded}"
    return None


def put_header(
    headers: dict[str, list[tuple[str, str]]], name: str, template: ListTemplate, late: LateValues
) -> None:
    """Set a header, unless its values are missing; one of that name that was set before goes."""
    values = template.texts(late.with_signatures([template]))
    if values:
        headers[name.lower()] = [(name, value) for value in values]
