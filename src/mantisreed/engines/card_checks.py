"""Reading cards with their profiles and tasks, and what the types of their tables alone cannot
see.
"""

from collections.abc import Iterator, Mapping, Sequence
from itertools import chain
from typing import Any

import msgspec

from mantisreed.audio.formats import FORMATS
from mantisreed.cards.checks import Problem, place_of, problems_of
from mantisreed.cards.effects import DOCUMENTS, formats_of
from mantisreed.cards.paths import ReplyPath
from mantisreed.cards.sequence import StepSequence, audio_names
from mantisreed.cards.tables import checked, fields_of
from mantisreed.cards.templates import Template
from mantisreed.engines.card import EngineCard, Reply, TimePaths, WordPaths
from mantisreed.engines.card_values import ConfidenceScale
from mantisreed.engines.request import FILES, PLACEHOLDERS
from mantisreed.errors import SettingsError

TRANSLATE = "translate"
_OVERLAYS = ("profile", "task")
_BODIES = ("form", "json", "urlencoded", "raw", "websocket")


def read_cards(
    name: str, table: Mapping[str, Any], file: str
) -> dict[tuple[str, str | None], EngineCard]:
    """All that one `[engine.NAME]` describes, checked: the card, and with each profile and each
    task laid over it.

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
    # Profiles and tasks are laid over the card, and are no keys of it.
    base = {key: value for key, value in table.items() if key not in _OVERLAYS}
    profiles = {name: base} | {
        f"{name}:{profile}": card_laid_over(base, overlay)
        for profile, overlay in table.get("profile", {}).items()
    }
    cards: dict[tuple[str, str | None], EngineCard] = {}
    for full_name, profile_table in profiles.items():
        cards[full_name, None] = _read_card(full_name, profile_table, file, place)
        for task, overlay in table.get("task", {}).items():
            cards[full_name, task] = _read_card(
                full_name, card_laid_over(profile_table, overlay), file, place
            )
    return cards


def _check_overlays(table: Mapping[str, Any], file: str, place: str) -> None:
    if "name" in table:
        advice = "the table's name is the engine's name"
        raise SettingsError("unknown key 'name'", where=f"{file}: [{place}]", advice=advice)
    for kind in _OVERLAYS:
        overlays = table.get(kind, {})
        if not isinstance(overlays, dict):
            wrong = overlays
        else:
            wrong = [k for k, v in overlays.items() if not isinstance(v, dict)]
        if wrong:
            raise SettingsError(
                f"key {kind!r}: expected tables [{place}.{kind}.NAME]", where=f"{file}: [{place}]"
            )
    for task in table.get("task", {}):
        if task != TRANSLATE:
            what = f"unknown task {task!r}"
            raise SettingsError(
                what, where=f"{file}: [{place}.task]", advice=f"the task known is {TRANSLATE}"
            )


def laid_over(table: Mapping[str, Any], overlay: Mapping[str, Any]) -> dict[str, Any]:
    """The table with what the overlay says instead; tables in both are merged."""
    merged = dict(table)
    for key, value in overlay.items():
        below = merged.get(key)
        if isinstance(below, dict) and isinstance(value, dict):
            merged[key] = laid_over(below, value)
        else:
            merged[key] = value
    return merged


def card_laid_over(table: Mapping[str, Any], overlay: Mapping[str, Any]) -> dict[str, Any]:
    """A card's table with what a profile says instead; what that leaves without effect is left
    out.
    """
    merged = laid_over(table, overlay)
    steps = [key for key in ("send", "login", "lookup", "cancel") if _is_table(overlay.get(key))]
    for key in steps:
        merged[key] = _without_rivals(merged[key], overlay[key], _BODIES)
    if _is_table(overlay.get("steps")):
        named = {
            key: _without_rivals(step, overlay["steps"].get(key), _BODIES)
            for key, step in merged["steps"].items()
        }
        merged["steps"] = named
    if _is_table(overlay.get("reply")):
        merged["reply"] = _reply_laid_over(merged["reply"], overlay["reply"])
    merged = _without_rivals(merged, overlay, ("send", "steps", "command", "python"))
    whole: dict[str, Any] = _without_rivals(merged, overlay, ("login", "token"))
    return whole


def _is_table(value: object) -> bool:
    return isinstance(value, dict)


def _without_rivals(table: Any, overlay: Any, rivals: tuple[str, ...]) -> Any:
    """Of keys that exclude each other those of the overlay, where it has any."""
    if not (_is_table(table) and _is_table(overlay)) or not any(key in overlay for key in rivals):
        return table
    return {key: value for key, value in table.items() if key not in rivals or key in overlay}


def _reply_laid_over(reply: dict[str, Any], overlay: Mapping[str, Any]) -> dict[str, Any]:
    form = reply.get("format", "json")
    return {
        key: _without_rivals(value, overlay.get(key), ("end", "length"))
        for key, value in reply.items()
        if key in overlay or form in formats_of(key)
    }


def _read_card(name: str, table: Mapping[str, Any], file: str, place: str) -> EngineCard:
    card = checked({**table, "name": name}, EngineCard, file, place)
    problem = next(_contradictions(card), None)
    if problem:
        raise SettingsError(problem[1], where=f"{file}: [{place}{problem[0]}]")
    return card


def _contradictions(card: EngineCard) -> Iterator[Problem]:
    """What is wrong, each with the table that it is in."""
    yield from _wrong_formats(card)
    ways = [way for way in ("send", "steps", "command", "python") if getattr(card, way)]
    if not ways:
        yield "", "key 'send' is missing (or 'steps', 'command' or 'python')"
    if len(ways) > 1:
        yield "", f"expected only one of the keys {' and '.join(map(repr, ways))}"
    if card.is_service and card.sequence:
        yield from problems_of(card, _known(card))
        yield from _wrong_audio(card)
        yield from _wrong_jobs(card)
    else:
        yield from _wrong_for_programs(card)
    yield from _wrong_reply(card.reply)


def _known(card: EngineCard) -> tuple[str, ...]:
    of_a_batch = ("piece_key", "manifest") if card.batch else ()
    return (*PLACEHOLDERS, *of_a_batch)


def _wrong_formats(card: EngineCard) -> Iterator[Problem]:
    unknown = [
        name for name in (*card.accepts.formats, *card.accepts.format_names) if name not in FORMATS
    ]
    if unknown or not card.accepts.formats:
        found = f"found {unknown[0]!r}" if unknown else "found none"
        yield ".accepts", f"key 'formats': expected some of {', '.join(FORMATS)}; {found}"
        return
    for name in card.accepts.formats:
        rates = FORMATS[name].sample_rates
        if rates and card.accepts.sample_rate not in rates:
            listed = ", ".join(map(str, rates))
            yield (
                ".accepts",
                f"key 'sample_rate': {name} can have {listed}; found {card.accepts.sample_rate}",
            )


def _wrong_audio(card: EngineCard) -> Iterator[Problem]:
    """The audio goes out in one step, or in one of several that are alternatives."""
    carrying = [(name, step) for name, step in card.sequence if audio_names(step)]
    if not carrying:
        name = card.sequence[-1][0] if card.send is None else "send"
        yield (
            place_of(card, name),
            'no step sends the audio: raw = "{audio}", a part of a form that is "{audio}", or '
            "{audio|base64} or "
            "{recording_url} in json",
        )
    unconditional = [name for name, step in carrying if step.when is None]
    if len(carrying) > 1 and unconditional:
        yield (
            place_of(card, carrying[1][0]),
            f"the audio is sent already, by step {carrying[0][0]!r}",
        )
    for name, step in carrying:
        if len(audio_names(step)) > 1:
            yield place_of(card, name), "the audio is in two places of this step"


def _wrong_jobs(card: EngineCard) -> Iterator[Problem]:
    if all(step.cleanup for _, step in card.sequence):
        return
    sequence = StepSequence(card)
    names = set(chain.from_iterable(step.names for _, step in card.sequence))
    if card.callback is not None and sequence.is_answered_at_once:
        yield "", "key 'callback' needs a step that comes after the work is started"
    if card.callback is not None and "callback" not in names:
        yield ".callback", "no step tells the engine the address {callback}"
    if card.callback is not None and card.callback.secret is not None:
        unknown = [
            name for name in card.callback.secret.names if name not in {*card.secrets, *card.values}
        ]
        for name in unknown:
            yield (
                ".callback",
                f"unknown placeholder {{{name}}}; here are known: the card's secrets and values",
            )
    if card.batch is not None:
        yield from _wrong_batch(card, sequence)


def _wrong_batch(card: EngineCard, sequence: StepSequence) -> Iterator[Problem]:
    assert card.batch is not None
    names = [name for name, _ in sequence.steps]
    if card.batch.step not in names:
        yield (
            ".batch",
            f"key 'step': there is no step {card.batch.step!r}; there are {', '.join(names)}",
        )
        return
    first = sequence.index_of(card.batch.step)
    if first > sequence.first_work:
        yield ".batch", f"step {card.batch.step!r} comes after the work is started"
    if not any("manifest" in step.names for _, step in sequence.steps[first:]):
        yield ".batch", "no step sends the {manifest}"
    if "piece_key" not in card.batch.item.names:
        yield ".batch", "key 'item' needs {piece_key}, by which its result is known"
    if card.batch.results is None and card.reply.format not in ("lines", "events"):
        yield ".batch", "key 'results' is missing: where the list of results is in the reply"
    if card.lookup is not None:
        yield ".lookup", "a job of several pieces cannot be looked up for one of them"
    if card.callback is not None and card.callback.brings == "reply":
        yield ".callback", 'a call cannot bring the replies of several pieces: brings = "news"'


def _wrong_for_programs(card: EngineCard) -> Iterator[Problem]:
    way = "command" if card.command else "python"
    for key in (
        "url",
        "every",
        "sign",
        "login",
        "token",
        "lookup",
        "cancel",
        "callback",
        "errors",
        "batch",
        "billed",
    ):
        default = fields_of(EngineCard)[key].default
        empty: tuple[Any, ...] = ({}, None)
        if default is not msgspec.NODEFAULT:
            empty = (default, *empty)
        if getattr(card, key) not in empty:
            yield "", f"{key!r} has no effect with {way!r}"
    if card.command is None:
        return
    known = {*PLACEHOLDERS, *FILES, *card.secrets, *card.values} - {
        "audio",
        "recording_url",
        "callback",
    }
    # Other people on the machine can see a program's arguments.
    yield from _unknown(".command", card.command.run, known - set(card.secrets), card)
    yield from _unknown(".command.environment", card.command.environment.values(), known, card)
    if card.command.audio == "file" and not any(
        "audio_file" in template.names for template in card.command.run
    ):
        yield ".command", "key 'run': no argument is {audio_file}; or set audio = \"stdin\""
    if card.command.reply == "file" and not any(
        "reply_file" in template.names for template in card.command.run
    ):
        yield ".command", "key 'run': no argument is {reply_file}; or set reply = \"stdout\""


def _unknown(place: str, templates: Any, known: set[str], card: EngineCard) -> Iterator[Problem]:
    for template in templates:
        assert isinstance(template, Template)
        for name in template.names:
            if name in known or name.partition(".")[0] in known:
                continue
            if name in card.secrets:
                yield (
                    place,
                    f"{{{name}}} is a secret; arguments can be seen by others: use 'environment'",
                )
            else:
                listed = ", ".join(f"{{{other}}}" for other in sorted(known))
                yield place, f"unknown placeholder {{{name}}}; here are known: {listed}"


def _wrong_reply(reply: Reply) -> Iterator[Problem]:
    for key, field in fields_of(Reply).items():
        is_given = getattr(reply, key) not in (field.default, ())
        if is_given and reply.format not in formats_of(key):
            yield ".reply", f"{key!r} is not read with format = {reply.format!r}"
    if reply.format not in DOCUMENTS:
        return
    if not (reply.text or reply.passages or reply.words):
        yield ".reply", "expected at least one of the keys 'text', 'passages', 'words'"
    if reply.is_whole_text and not reply.text:
        yield ".reply", "'is_whole_text' has no effect without 'text'"
    if reply.tracks and not (reply.passages or reply.words):
        yield ".reply", "'tracks' has no effect without 'passages' or 'words', which are in each"
    if reply.turns and not reply.words:
        yield ".reply", "'turns' has no effect without 'words', over which they are laid"
    if reply.speakers and not reply.tells_speakers:
        yield ".reply", "'speakers' has no effect: nothing says who speaks"
    yield from _wrong_times(reply)
    yield from _wrong_passages(reply)
    yield from _wrong_offsets(reply)
    yield from _wrong_words(reply)
    yield from _wrong_confidence(reply)


def _wrong_time_keys(paths: TimePaths) -> Iterator[str]:
    if paths.end is not None and paths.length is not None:
        yield "expected only one of the keys 'end' and 'length'"
    if paths.length_times is not None and paths.length is None:
        yield "'length_times' has no effect without 'length'"
    if paths.times is not None and not paths.has_times:
        yield "'times' has no effect without 'start', 'end' or 'length'"


def _wrong_times(reply: Reply) -> Iterator[Problem]:
    places = [(key, getattr(reply, key)) for key in ("passages", "words", "turns")]
    timed: list[tuple[str, TimePaths]] = [
        (key, paths) for key, paths in places if paths is not None
    ]
    for key, paths in timed:
        for why in _wrong_time_keys(paths):
            yield f".reply.{key}", why
    if reply.turns and not (reply.turns.start and (reply.turns.end or reply.turns.length)):
        yield ".reply.turns", "expected 'start', and 'end' or 'length'"
    yield from _wrong_units(reply, [paths for _, paths in timed])


def _wrong_units(reply: Reply, timed: Sequence[TimePaths]) -> Iterator[Problem]:
    """Units of times, and the moment that moments are counted from."""
    units = [paths.times or reply.times for paths in timed if paths.has_times]
    needs_zero = any(unit.is_moment for unit in units)
    if needs_zero and reply.zero is None:
        yield ".reply", "key 'zero' is missing: where the moment is at which the recording begins"
    if reply.zero is not None and not needs_zero:
        yield ".reply", "'zero' has no effect without times = \"moment\""
    if reply.times.source != "s" and not units:
        yield ".reply", "'times' has no effect: no times are read"


def _wrong_passages(reply: Reply) -> Iterator[Problem]:
    passages = reply.passages
    if passages is None:
        return
    if passages.text is None and reply.words is None:
        yield ".reply.passages", "key 'text' is missing, as there are no words that say it"
    if (
        passages.confidence is not None
        and reply.words is not None
        and reply.words.confidence is not None
    ):
        yield ".reply.passages", "'confidence' has no effect, as words have their own"


def _wrong_offsets(reply: Reply) -> Iterator[Problem]:
    """Words need a text, or a place in one."""
    words = reply.words
    if words is None:
        return
    has_place = words.text_from is not None
    if (words.text is None) is not has_place:
        yield ".reply.words", "expected one of the keys 'text' and 'text_from'"
        return
    if not has_place:
        for key in ("text_to", "text_length"):
            if getattr(words, key) is not None:
                yield ".reply.words", f"{key!r} has no effect without 'text_from'"
        return
    if (words.text_to is None) is (words.text_length is None):
        yield ".reply.words", "expected one of the keys 'text_to' and 'text_length'"
    if words.each is None:
        yield ".reply.words", "'text_from' needs 'each', the list of words"
    whole = reply.passages.text if reply.passages else reply.text
    if whole is None:
        yield ".reply.words", "'text_from' needs the text that words are parts of: 'text'"


def _wrong_words(reply: Reply) -> Iterator[Problem]:
    words = reply.words
    if words is None:
        return
    if words.zero == "passage" and (reply.passages is None or not reply.passages.start):
        yield ".reply.words", "zero = \"passage\" needs passages with 'start'"
    if words.zero == "passage" and not words.has_times:
        yield ".reply.words", "'zero' has no effect without times"
    yield from _wrong_kinds(words)
    if words.each is None and reply.format == "csv":
        yield ".reply.words", "key 'each' is missing: \"@\" for all rows"
    tokens = words.tokens
    if tokens is not None:
        ways = [key for key in tokens.__struct_fields__ if getattr(tokens, key) is not None]
        if len(ways) != 1:
            wanted = ", ".join(tokens.__struct_fields__)
            yield ".reply.words.tokens", f"expected one of the keys {wanted}"


def _wrong_kinds(words: WordPaths) -> Iterator[Problem]:
    kinds = ("punctuation", "events", "ignored")
    given = [key for key in kinds if getattr(words, key)]
    if words.kind is not None and not given:
        yield ".reply.words", "'kind' has no effect without 'punctuation', 'events' or 'ignored'"
    if words.kind is None:
        why = "has no effect without 'kind': where the kind of an item is"
        for key in given:
            yield ".reply.words", f"{key!r} {why}"


def _wrong_confidence(reply: Reply) -> Iterator[Problem]:
    paths: list[ReplyPath | None] = [reply.words.confidence if reply.words else None]
    paths += [reply.passages.confidence if reply.passages else None]
    if reply.confidence_scale != ConfidenceScale() and not any(paths):
        yield ".reply", "'confidence_scale' has no effect: no confidence is read"
