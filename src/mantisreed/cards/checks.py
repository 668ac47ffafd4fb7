"""What is wrong with a card that the types of its tables cannot see: contradictions, and keys
without effect.
"""

from collections.abc import Iterable, Iterator
from itertools import chain, pairwise
from typing import Any

from mantisreed.cards.card import ServiceCard
from mantisreed.cards.effects import STEP_KINDS, keys_without_effect
from mantisreed.cards.late_values import OVER_HEADERS
from mantisreed.cards.requests import secret_names_of
from mantisreed.cards.sequence import OF_A_CHUNK, StepSequence, audio_names, taken_by
from mantisreed.cards.steps import ASKING_KEYS, Step
from mantisreed.cards.tables import fields_of
from mantisreed.cards.templates import ListTemplate, Template
from mantisreed.secrets import REPLACEABLE

Problem = tuple[str, str]
"""Which of the card's tables, as it stands after the card's own name, and what is wrong with it."""

OF_A_REQUEST = ("now", "uuid", "nonce", "etag")
"""Placeholders that are made for each request; `etag` is that of the step's own last answer."""

OF_ITS_PARTS = ("method", "host", "path", "query", "url", "body", *OVER_HEADERS)
"""Placeholders for the parts of the request itself: in headers, in the query, and in what is
signed.
"""

_OF_A_PAGE = ("page_token", "page_offset", "page_number")

_STATE_LISTS = ("waiting", "done", "failed")


def problems_of(card: ServiceCard, known: Iterable[str]) -> Iterator[Problem]:
    """All that is wrong with the exchange of a card.

    Args:
        card: one with at least one step.
        known: placeholders that the caller gives values for.
    """
    names = frozenset(known)
    yield from _wrong_names(card, names)
    yield from _wrong_url(card)
    yield from _wrong_order(card)
    for place, step in places_of(card):
        yield from _wrong_step(place, step)
    if card.login is not None:
        yield from _wrong_login(card)
    yield from _wrong_placeholders(card, names)
    yield from _wrong_after_work(card)


def places_of(card: ServiceCard) -> Iterator[tuple[str, Step]]:
    """All steps of a card, with the places of their tables."""
    for name, step in card.sequence:
        yield place_of(card, name), step
    for name in ("lookup", "cancel"):
        step = getattr(card, name)
        if step is not None:
            yield f".{name}", step


def place_of(card: ServiceCard, name: str) -> str:
    """The table of a step."""
    if card.send is not None:
        return ".send"
    return f".steps.{name}"


def _wrong_names(card: ServiceCard, known: frozenset[str]) -> Iterator[Problem]:
    """Names that the card gives to two things."""
    given = [("values", name) for name in card.values] + [("sign", name) for name in card.sign]
    given += [("secrets", name) for name in card.secrets]
    # A value of the same name would hide what the placeholder stands for.
    reserved = known | {*OF_A_REQUEST, *OF_ITS_PARTS, *OF_A_CHUNK, *_OF_A_PAGE}
    seen: set[str] = set()
    for table, name in given:
        if name in reserved:
            yield f".{table}", f"{name!r} is a placeholder already: give it another name"
        elif name in seen:
            yield f".{table}", f"{name!r} stands for two things: give one of them another name"
        seen.add(name)
    for place, step in places_of(card):
        for name in taken_by(step):
            if name in reserved or name in seen:
                yield f"{place}.take", f"{name!r} is a placeholder already: give it another name"
    for table, name in given:
        if not Template(f"{{{name}}}").names:
            yield (
                f".{table}",
                f"{name!r} cannot be a placeholder: use small letters, digits and underscores",
            )


def _wrong_url(card: ServiceCard) -> Iterator[Problem]:
    if card.url is None:
        without = [place for place, step in places_of(card) if step.url is None]
        if without:
            yield "", "key 'url' is missing"
        return
    written = card.url.source
    # With a placeholder in front the scheme is only known when it is sent.
    if not written.startswith(("http://", "https://", "ws://", "wss://", "{")):
        yield "", f"key 'url': expected http://... or https://..., found {written!r}"


def _wrong_order(card: ServiceCard) -> Iterator[Problem]:
    for one, other in (("send", "steps"), ("login", "token")):
        if getattr(card, one) and getattr(card, other):
            yield "", f"expected only one of the keys {one!r} and {other!r}"
    steps = card.sequence
    # They are left out of the exchange, which would then be empty.
    if all(step.cleanup for _, step in steps):
        yield "", "every step is a cleanup: none of them brings a reply"
        return
    for (name, step), (_, following) in pairwise(steps):
        if step.cleanup and not following.cleanup:
            yield place_of(card, name), "steps with cleanup = true come last"
    sequence = StepSequence(card)
    yield from _wrong_places(card, sequence)
    if sequence.is_answered_at_once:
        for key in ("lookup", "cancel"):
            if getattr(card, key) is not None:
                yield "", f"key {key!r} needs a step that comes after the work is started"


def _wrong_places(card: ServiceCard, sequence: StepSequence) -> Iterator[Problem]:
    """Steps that do what their place in the order does not allow."""
    for index, (name, step) in enumerate(sequence.steps):
        if step.pages is not None and index < len(sequence.steps) - 1:
            yield place_of(card, name), "'pages' is for the last step, whose answer is the reply"
        if step.starts_work and step.is_asking:
            yield (
                place_of(card, name),
                "a step that asks until something is done cannot start it: drop 'starts_work'",
            )
    first, step = sequence.steps[0]
    if step.is_asking and sequence.first_work == 0:
        yield place_of(card, first), "no step before this one starts the work that it asks for"


def _wrong_step(place: str, step: Step) -> Iterator[Problem]:
    bodies = step.body_keys
    if len(bodies) > 1:
        yield place, f"expected only one of the keys {' and '.join(map(repr, bodies))}"
    yield from _wrong_body(place, step)
    yield from _wrong_asking(place, step)
    if step.url is not None and step.path.source:
        yield place, "expected only one of the keys 'url' and 'path'"
    if step.cleanup and (step.is_asking or step.starts_work):
        yield place, "a step with cleanup = true neither starts work nor asks for it"
    yield from _without_effect(place, step, _kind_of(step))
    yield from _wrong_pages(place, step)
    yield from _wrong_stream(place, step)


def _kind_of(step: Step) -> str:
    if step.websocket is not None:
        return "websocket"
    if step.chunks is not None:
        return "chunks"
    if step.is_asking:
        return "asking"
    return "request"


def _without_effect(place: str, step: Step, kind: str) -> Iterator[Problem]:
    fields = fields_of(Step)
    for key in keys_without_effect(kind):
        # A key with its default is not told from one that is not there.
        if getattr(step, key) not in (fields[key].default, None):
            yield place, f"{key!r} has no effect in {STEP_KINDS[kind]}"


def _wrong_pages(place: str, step: Step) -> Iterator[Problem]:
    pages = step.pages
    if pages is None:
        return
    ways = [key for key in ("next_url", "next_token", "items") if getattr(pages, key) is not None]
    if len(ways) != 1:
        yield f"{place}.pages", "expected one of the keys 'next_url', 'next_token' and 'items'"


def _wrong_stream(place: str, step: Step) -> Iterator[Problem]:
    """Contradictions of steps that send the audio bit by bit."""
    socket = step.websocket
    if step.chunks is not None and socket is not None:
        yield place, "expected only one of the keys 'chunks' and 'websocket'"
    names = chain.from_iterable(template.names for template in step.templates)
    if step.chunks is not None and "chunk" not in names:
        yield place, "with 'chunks' the body holds {chunk}: raw = \"{chunk}\", or a part of a form"
    if socket is None:
        return
    if socket.partial_text is not None and socket.partial is None:
        yield f"{place}.websocket", "'partial_text' has no effect without 'partial'"


def _wrong_body(place: str, step: Step) -> Iterator[Problem]:
    if not step.body_keys and step.websocket is None:
        for key in ("content_type", "gzip"):
            if getattr(step, key):
                yield place, f"{key!r} has no effect without a body"
    if step.multipart != "form-data" and step.form is None:
        yield place, "'multipart' has no effect without 'form'"
    if step.verb in ("GET", "HEAD") and step.body_keys:
        yield place, f"a {step.verb} request has no body: drop {step.body_keys[0]!r}, or the method"
    yield from _misplaced_bytes(place, step)


def _misplaced_bytes(place: str, step: Step) -> Iterator[Problem]:
    """Bytes where only text can be."""
    if step.raw is not None and not step.raw.is_audio and _holds_bytes(step.raw):
        yield (
            place,
            f"key 'raw': the audio stands alone, as in \"{{audio}}\"; found {step.raw.source!r}",
        )
    for template in step.json.templates if step.json is not None else ():
        if template.is_audio or _holds_bytes(template):
            yield place, "JSON holds no bytes: write {audio|base64}"
    for key in ("headers", "query", "urlencoded"):
        for name, field in (getattr(step, key) or {}).items():
            if any(template.is_audio or _holds_bytes(template) for template in field.items):
                yield place, f"{key}.{name} cannot hold bytes: write {{audio|base64}}"


def _holds_bytes(template: Template) -> bool:
    """Whether the bare bytes of the audio would stand in a text."""
    return any(f"{{{name}}}" in template.source for name in ("audio", "chunk"))


def _wrong_asking(place: str, step: Step) -> Iterator[Problem]:
    for key in _STATE_LISTS:
        if getattr(step, key) and step.state is None:
            yield place, f"{key!r} has no effect without 'state': where the state is in the answer"
    if not step.is_asking:
        return
    # With a state and nothing that it may be, no answer would ever be the last.
    if step.state is not None and not any(
        getattr(step, key) for key in ASKING_KEYS if key not in ("state", "interval")
    ):
        yield place, "key 'done' is missing: which states mean that the reply is there"
    for first in _STATE_LISTS:
        for second in _STATE_LISTS[_STATE_LISTS.index(first) + 1 :]:
            both = [value for value in getattr(step, first) if value in getattr(step, second)]
            if both:
                yield place, f"{both[0]!r} is listed in {first!r} and in {second!r}"


def _wrong_login(card: ServiceCard) -> Iterator[Problem]:
    login = card.login
    assert login is not None
    yield from _wrong_step(".login", login)
    for name in login.replaces:
        source = card.secrets.get(name)
        if source is None:
            yield ".login.replaces", f"there is no secret {name!r}; {_listed(card.secrets)}"
        elif source.kind not in REPLACEABLE:
            yield (
                ".login.replaces",
                f"secrets.{name} is {source}, where nothing can be written: keep it at file:PATH "
                "or keyring:SERVICE/USER",
            )
    if not login.take:
        yield ".login", "key 'take' is missing: what the other requests need of its answer"
    yield from _without_effect(".login", login, "login")
    if login.is_asking:
        yield ".login", "'login' is one request: it does not ask for a state"


def _wrong_placeholders(card: ServiceCard, known: frozenset[str]) -> Iterator[Problem]:
    own = _with_values(card, known | {*card.secrets, *OF_A_REQUEST})
    logged_in = _with_values(card, own | set(card.session.take if card.session else ()))
    signing = logged_in | {*card.sign, *OF_ITS_PARTS}
    if card.url is not None:
        yield from _unknown("", [card.url], own, card)
    if card.session is not None:
        place = f".{card.session_name}"
        yield from _unknown(place, _early(card.session), own, card)
        yield from _unknown(place, _late(card.session), own | {*card.sign, *OF_ITS_PARTS}, card)
    taken: set[str] = set()
    if StepSequence(card).chunk_size is not None:
        taken.add("chunk_count")  # steps before the chunks may have to say how many there are
    for name, step in card.sequence:
        place = place_of(card, name)
        yield from _unknown_in_step(place, step, logged_in | taken, signing | taken, card)
        taken |= set(taken_by(step))
        # The card's values may be made of what a step took; they are known from there on.
        taken |= _with_values(card, logged_in | taken) - logged_in
    every_value = {*logged_in, *taken}
    for name, template in card.values.items():
        yield from _unknown(".values", [template], every_value - {name}, card)
    # What is taken may be asked for in every request, as soon as it is there.
    every = card.every
    fields = _items_of(every.headers, every.query)
    proofs = (every.bearer, every.basic, every.digest)
    fields += [template for template in proofs if template is not None]
    yield from _headers_in_query(".every", every.query)
    yield from _unknown(".every", fields, signing | taken, card)
    for name, signature in card.sign.items():
        yield from _unknown(f".sign.{name}", [signature.key, signature.text], signing | taken, card)
    if card.lookup is not None:
        # A lookup comes instead of the work, so that nothing is taken yet.
        yield from _unknown_in_step(".lookup", card.lookup, logged_in, signing, card)
    if card.cancel is not None:
        yield from _unknown_in_step(
            ".cancel", card.cancel, logged_in | taken, signing | taken, card
        )


def _with_values(card: ServiceCard, known: frozenset[str]) -> frozenset[str]:
    """What is known, with the card's own values that are made of it."""
    found = set(known)
    for name, template in card.values.items():
        if all(other in found or other.partition(".")[0] in found for other in template.names):
            found.add(name)
    return frozenset(found)


def _items_of(*tables: dict[str, ListTemplate]) -> list[Template]:
    """The templates in headers and queries, in order."""
    items: list[Template] = []
    for table in tables:
        items += chain.from_iterable(field.items for field in table.values())
    return items


def _unknown_in_step(
    place: str,
    step: Step,
    known: frozenset[str] | set[str],
    signing: frozenset[str] | set[str],
    card: ServiceCard,
) -> Iterator[Problem]:
    extra: set[str] = set()
    if step.chunks is not None:
        extra |= set(OF_A_CHUNK)
        yield from _wrong_chunks(place, step, known, card)
        if step.chunks.item is not None:
            own = {*known, *extra, *step.chunks.collect}
            yield from _unknown(f"{place}.chunks", step.chunks.item.templates, own, card)
        resume = step.chunks.resume
        if resume is not None:
            yield from _unknown(
                f"{place}.chunks.resume", resume.templates, {*signing, *extra}, card
            )
            if step.chunks.received is None and not resume.take:
                yield (
                    f"{place}.chunks",
                    "key 'received' is missing: where the answer to 'resume' says what has arrived",
                )
    if step.websocket is not None:
        extra |= set(OF_A_CHUNK[:4])
    if step.pages is not None:
        extra |= set(_OF_A_PAGE)
    yield from _headers_in_query(place, step.query)
    yield from _unknown(place, _early(step), {*known, *extra}, card)
    yield from _unknown(place, _late(step), {*signing, *extra}, card)
    in_paths = [Template(f"{{{name}}}") for name in step.names_in_paths]
    yield from _unknown(place, in_paths, {*known, *extra}, card)
    if step.when is not None:
        for name in sorted(step.when.root_names - known):
            yield place, f"key 'when': unknown value {name!r}; {_listed(known)}"


def _wrong_chunks(
    place: str, step: Step, known: frozenset[str] | set[str], card: ServiceCard
) -> Iterator[Problem]:
    assert step.chunks is not None
    size = step.chunks.size
    if size is not None:
        yield from _unknown(
            f"{place}.chunks", [Template(f"{{{name}}}") for name in size.names], known, card
        )
    elif not any(name not in OF_A_CHUNK for name in (step.url or step.path).names):
        yield f"{place}.chunks", "key 'size' is missing: bytes of each chunk, such as 8 MiB"


def _headers_in_query(place: str, query: dict[str, ListTemplate]) -> Iterator[Problem]:
    """The query is made before the headers are, so that they are not known in it."""
    for name, field in query.items():
        for item in field.items:
            for part in OVER_HEADERS:
                if part in item.names:
                    yield place, f"query.{name}: {{{part}}} is only known in headers"


def _late(step: Step) -> list[Template]:
    """Templates that are filled when the rest of the request is there."""
    fields = _items_of(step.headers, step.query)
    return fields + [template for template in (step.bearer, step.basic) if template is not None]


def _early(step: Step) -> list[Template]:
    late = set(map(id, _late(step)))
    return [template for template in step.templates if id(template) not in late]


def _unknown(
    place: str, templates: Iterable[Template], known: frozenset[str] | set[str], card: ServiceCard
) -> Iterator[Problem]:
    for template in templates:
        for name in template.names:
            if name in known or name.partition(".")[0] in known:
                continue
            if name in card.sign or name in OF_ITS_PARTS:
                yield place, f"{{{name}}} is only known in headers and in the query"
            else:
                yield place, f"unknown placeholder {{{name}}}; {_listed(known)}"


def _listed(known: Iterable[Any]) -> str:
    hidden = {*OF_ITS_PARTS}
    return "here are known: " + ", ".join(f"{{{name}}}" for name in sorted(set(known) - hidden))


def _wrong_after_work(card: ServiceCard) -> Iterator[Problem]:
    if any(not step.cleanup for _, step in card.sequence):
        sequence = StepSequence(card)
    else:
        sequence = None
    if sequence is None:
        return
    later = [*sequence.steps[sequence.last_work + 1 :], *sequence.cleanup]
    for name, step in later:
        if audio_names(step):
            started = sequence.steps[sequence.last_work][0]
            yield (
                place_of(card, name),
                f"the audio is sent after step {started!r} has started the work: set starts_work "
                "in the right step",
            )
    kept_out = sequence.hidden & sequence.needed_from(sequence.last_work + 1)
    again = set(chain.from_iterable(step.take for _, step in sequence.steps_that_hide()))
    for name in sorted(kept_out - again - secret_names_of(card)):
        place = next(place_of(card, key) for key, step in card.sequence if name in taken_by(step))
        yield (
            f"{place}.take",
            f"{name!r} looks like a secret, which is never kept, and is needed after the work is "
            "started: "
            f'write {name} = {{ from = "...", secret = false }} if it may be kept',
        )
    if card.lookup is not None:
        yield from _lacking_in_lookup(card, sequence)


def _lacking_in_lookup(card: ServiceCard, sequence: StepSequence) -> Iterator[Problem]:
    assert card.lookup is not None
    before = set(
        chain.from_iterable(taken_by(step) for _, step in sequence.steps[: sequence.last_work + 1])
    )
    needed = sequence.needed_from(sequence.last_work + 1) & before
    for name in sorted(needed - set(card.lookup.take)):
        yield (
            ".lookup",
            f"key 'take.{name}' is missing: later steps need it, so the lookup has to find it too",
        )
