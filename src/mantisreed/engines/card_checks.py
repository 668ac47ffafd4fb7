"""Reading cards with their profiles and tasks, and what the types of their tables alone cannot see."""

import re
from collections.abc import Iterator, Mapping
from typing import Any

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.card import EngineCard, Step
from mantisreed.engines.placeholders import placeholders_of, templates_in
from mantisreed.engines.tables import checked
from mantisreed.errors import SettingsError

AUDIO = ("audio", "audio_base64", "audio_link")
"""The placeholders that bring the audio itself: its bytes, its bytes as text, or a link to it."""

KNOWN = (
    *("language", "target", "format", "content_type", "sample_rate", "channels", "duration", "hints"),
    *("request_id", "callback", "audio_file", "reply_file"),
)
"""The placeholders that every card has, besides its own secrets and values and what its steps take."""

TRANSLATE = "translate"
_OVERLAYS = ("profile", "task")


def read_cards(name: str, table: Mapping[str, Any], file: str) -> dict[tuple[str, str | None], EngineCard]:
    """All that one `[engine.NAME]` describes, checked: the card, and with each profile and each task laid over it.

    Args:
        name: of the engine.
        table: what TOML gave for `[engine.NAME]`.
        file: the file's name, for messages.

    Returns:
        Cards by (name, task): `NAME` or `NAME:PROFILE`, and None or the name of a task.

    Raises:
        SettingsError: names the file, the table, the key and what was expected.
    """
    place = f"engine.{name}"
    _check_overlays(table, file, place)
    base = {key: value for key, value in table.items() if key not in _OVERLAYS}
    profiles = {name: base} | {
        f"{name}:{profile}": _laid_over(base, overlay) for profile, overlay in table.get("profile", {}).items()
    }
    cards: dict[tuple[str, str | None], EngineCard] = {}
    for full_name, profile_table in profiles.items():
        cards[full_name, None] = _read_card(full_name, profile_table, file, place)
        for task, overlay in table.get("task", {}).items():
            cards[full_name, task] = _read_card(full_name, _laid_over(profile_table, overlay), file, place)
    return cards


def _check_overlays(table: Mapping[str, Any], file: str, place: str) -> None:
    if "name" in table:
        advice = "the table's name is the engine's name"
        raise SettingsError("unknown key 'name'", where=f"{file}: [{place}]", advice=advice)
    for kind in _OVERLAYS:
        overlays = table.get(kind, {})
        wrong = (
            overlays
            if not isinstance(overlays, dict)
            else [k for k, v in overlays.items() if not isinstance(v, dict)]
        )
        if wrong:
            raise SettingsError(f"key {kind!r}: expected tables [{place}.{kind}.NAME]", where=f"{file}: [{place}]")
    for task in table.get("task", {}):
        if task != TRANSLATE:
            what = f"unknown task {task!r}"
            raise SettingsError(what, where=f"{file}: [{place}.task]", advice=f"the task known is {TRANSLATE}")


def _laid_over(table: Mapping[str, Any], overlay: Mapping[str, Any]) -> dict[str, Any]:
    """The table with what the overlay says instead; tables in both are merged."""
    merged = dict(table)
    for key, value in overlay.items():
        below = merged.get(key)
        merged[key] = _laid_over(below, value) if isinstance(below, dict) and isinstance(value, dict) else value
    return merged


def _read_card(name: str, table: Mapping[str, Any], file: str, place: str) -> EngineCard:
    card = checked({**table, "name": name}, EngineCard, file, place)
    problem = next(_contradictions(card), None)
    if problem:
        raise SettingsError(problem[1], where=f"{file}: [{place}{problem[0]}]")
    return card


def _contradictions(card: EngineCard) -> Iterator[tuple[str, str]]:
    """(subtable, what is wrong)."""
    yield from _wrong_formats(card)
    ways = [way for way in ("send", "command", "python") if getattr(card, way) is not None]
    if not ways:
        yield "", "key 'send' is missing (or 'command', or 'python')"
    if len(ways) > 1:
        yield "", f"expected only one of the keys {' and '.join(map(repr, ways))}"
    if card.send is not None:
        yield from _wrong_steps(card)
    if card.reply.kind == "json" and not (card.reply.text or card.reply.passages or card.reply.words):
        yield ".reply", "expected at least one of the keys 'text', 'passages', 'words'"
    if card.reply.kind in ("events", "lines") and not card.reply.text:
        yield ".reply", f"key 'text' is missing: the part of the text in each of the {card.reply.kind}"
    for key, paths in (("words", card.reply.words), ("passages", card.reply.passages)):
        if paths and paths.start and (paths.end is None) == (paths.length is None):
            yield f".reply.{key}", "expected one of the keys 'end' and 'length'"
    yield from _wrong_placeholders(card)


def _wrong_formats(card: EngineCard) -> Iterator[tuple[str, str]]:
    unknown = [name for name in (*card.accepts.formats, *card.accepts.format_names) if name not in FORMATS]
    if unknown or not card.accepts.formats:
        found = f"found {unknown[0]!r}" if unknown else "found none"
        yield ".accepts", f"key 'formats': expected some of {', '.join(FORMATS)}; {found}"


def _wrong_steps(card: EngineCard) -> Iterator[tuple[str, str]]:
    if card.address is None:
        yield "", "key 'address' is missing"
    elif not re.match(r"https?://[^/]", card.address):
        yield "", f"key 'address': expected http://... or https://..., found {card.address!r}"
    for name, step in card.steps:
        bodies = [body for body in ("form", "json", "raw") if getattr(step, body) is not None]
        if len(bodies) > 1:
            yield f".{name}", f"expected only one of the keys {' and '.join(map(repr, bodies))}"
        if step.raw is not None and step.raw != "{audio}":
            yield f".{name}", f"key 'raw': expected \"{{audio}}\", found {step.raw!r}"
    carried = [name for step in (card.upload, card.send) if step for name in audio_placeholders(step)]
    if len(carried) != 1:
        found = "found none" if not carried else f"found {len(carried)}"
        yield (
            ".send",
            (
                'expected the audio in one place: raw or one field of a form as "{audio}", or {audio_base64} or '
                f"{{audio_link}} in json; {found}"
            ),
        )
    if card.fetch and not card.poll:
        yield "", "key 'fetch' needs 'poll'"
    for key in ("lookup", "cancel", "callback"):
        if getattr(card, key) and not card.poll:
            yield "", f"key {key!r} needs 'poll'"
    if card.lookup and card.send and not set(card.send.take) <= set(card.lookup.take):
        missing = next(name for name in card.send.take if name not in card.lookup.take)
        yield ".lookup", f"key 'take.{missing}' is missing: send takes it, so the lookup has to find it too"
    if card.poll and card.poll.state and not card.poll.done:
        yield ".poll", "key 'done' is missing: which states mean that the reply is there"


def audio_placeholders(step: Step) -> list[str]:
    """Which of the placeholders that bring the audio the body of a step holds; for a raw body, `audio`."""
    found = [name for template in templates_in(step.json) for name in placeholders_of(template) if name in AUDIO[1:]]
    found += [name for template in (step.form or {}).values() for name in placeholders_of(template) if name in AUDIO]
    return found + (["audio"] if step.raw else [])


def _wrong_placeholders(card: EngineCard) -> Iterator[tuple[str, str]]:
    known = {*KNOWN, *AUDIO, *card.secrets, *card.values} | ({"token"} if card.token else set())
    places: list[tuple[str, Any, set[str]]] = [("", card.address or "", known)]
    if card.token:
        token = card.token
        places.append((".token", [token.address, token.client, token.secret, token.scope], known - {"token"}))
    every = card.every
    places.append((".every", [every.headers, every.query, every.bearer or "", every.basic or ""], set(known)))
    for name, step in card.steps:
        given = [step.address or "", step.path, step.headers, step.query, step.form or {}, step.json or {}]
        # A lookup comes instead of a send, so that nothing is taken yet.
        allowed = known - set(card.send.take if card.send else ()) if name == "lookup" else set(known)
        places.append((f".{name}", given, allowed))
        known |= set(step.take)
    if card.callback:
        places.append((".callback", card.callback.secret or "", {*card.secrets, *card.values}))
    if card.command:
        # Other people on the machine can see a program's arguments.
        places.append((".command", list(card.command.run), known - set(card.secrets)))
        places.append((".command.environment", card.command.environment, known))
    for table, templates, allowed in places:
        for template in templates_in(templates):
            for name in placeholders_of(template):
                if name in card.secrets and name not in allowed:
                    yield table, f"{{{name}}} is a secret; arguments can be seen by others: use 'environment'"
                if name not in allowed:
                    listed = ", ".join(f"{{{other}}}" for other in sorted(allowed))
                    yield table, f"unknown placeholder {{{name}}}; here are known: {listed}"
