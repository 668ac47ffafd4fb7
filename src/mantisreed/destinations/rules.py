"""What happens with each transcript: the `[follow_up.NAME]` tables of the settings. `docs/flows.md`
is their manual.
"""

import re
from collections.abc import Iterator, Mapping
from graphlib import CycleError, TopologicalSorter
from typing import Annotated, Any, Literal

import msgspec

from mantisreed.cards.checks import Problem
from mantisreed.cards.paths import Condition
from mantisreed.cards.steps import Table
from mantisreed.cards.tables import checked
from mantisreed.destinations.actions import Action, Copy, Mail, Program, Rows, Webhook
from mantisreed.destinations.parcels import FACTS
from mantisreed.errors import SettingsError

ACTIONS = ("service", "command", "mail", "webhook", "copy", "rows")
"""Keys of which a follow-up has one: what it does."""

TRANSCRIPT = "transcript"
"""What is needed where nothing is said: the transcript itself."""

_NAME = re.compile(r"[a-z_][a-z0-9_-]*")


class FollowUp(Table, frozen=True, kw_only=True):
    """`[follow_up.NAME]`: one follow-up.

    Attributes:
        name: the table's own name.
        needs: `transcript`, and names of other follow-ups; the first one is what a service gets.
        when: after which end of a recording.
        only_if: a condition on what is known of the recording (JMESPath).
        service: name of the text service that is asked.
        target: the tag of the language that is wanted of it.
        to: for a translation, the formats that are written; without them it is one text.
        bilingual: whether each cue has both languages, the original above.
        back: name of the service that translates back, for checking.
        reduce: whether results of several parts go to the service again, until there is one.
        command, mail, webhook, copy, rows: other things to do.
    """

    name: str
    needs: tuple[str, ...] = (TRANSCRIPT,)
    when: Literal["done", "failed", "always"] = "done"
    only_if: Condition | None = None
    service: str | None = None
    target: str | None = None
    to: tuple[str, ...] = ()
    bilingual: bool = False
    back: str | None = None
    reduce: bool = False
    command: Program | None = None
    mail: Mail | None = None
    webhook: Webhook | None = None
    copy: Copy | None = None
    rows: Rows | None = None
    max_attempts: Annotated[int, msgspec.Meta(ge=1, le=20)] = 5

    @property
    def follows(self) -> tuple[str, ...]:
        """The other follow-ups that it needs."""
        return tuple(name for name in self.needs if name != TRANSCRIPT)

    @property
    def action(self) -> str:
        """Which of the actions it is."""
        return next(key for key in ACTIONS if getattr(self, key) is not None)

    @property
    def doing(self) -> Action | None:
        """What it does with a result; None where a service is asked."""
        ways = (getattr(self, key) for key in ACTIONS if key != "service")
        return next((way for way in ways if way is not None), None)


def read_follow_ups(
    tables: Mapping[str, Any], services: Mapping[str, Any], file: str
) -> dict[str, FollowUp]:
    """All `[follow_up.NAME]`, checked, in an order in which each comes after those that it needs.

    Args:
        tables: what TOML gave for `[follow_up]`.
        services: the text services, by name.
        file: the file's name, for messages.

    Raises:
        SettingsError: one is wrong, needs what there is not, or they wait for each other in a
            circle.
    """
    rules: dict[str, FollowUp] = {}
    for name, table in tables.items():
        place = f"follow_up.{name}"
        if not isinstance(table, dict):
            raise SettingsError(
                f"key {name!r}: expected a table [{place}]", where=f"{file}: [follow_up]"
            )
        rules[name] = checked({**table, "name": name}, FollowUp, file, place)
        problem = next(_contradictions(rules[name], tables, services), None)
        if problem:
            raise SettingsError(problem[1], where=f"{file}: [{place}{problem[0]}]")
    return {name: rules[name] for name in in_order(rules, file)}


def in_order(rules: Mapping[str, FollowUp], file: str) -> list[str]:
    """Their names, each after those that it needs.

    Raises:
        SettingsError: they wait for each other in a circle.
    """
    try:
        return list(
            TopologicalSorter({name: rule.follows for name, rule in rules.items()}).static_order()
        )
    except CycleError as error:
        circle = " -> ".join(reversed(error.args[1]))
        raise SettingsError(
            f"these wait for each other: {circle}", where=f"{file}: [follow_up]"
        ) from error


def _contradictions(
    rule: FollowUp, tables: Mapping[str, Any], services: Mapping[str, Any]
) -> Iterator[Problem]:
    if not _NAME.fullmatch(rule.name) or rule.name == TRANSCRIPT:
        yield (
            "",
            f"{rule.name!r} cannot be a name: use small letters, digits, hyphens and underscores",
        )
    actions = [key for key in ACTIONS if getattr(rule, key) is not None]
    if len(actions) != 1:
        found = " and ".join(map(repr, actions)) or "none"
        yield "", f"expected one of the keys {', '.join(ACTIONS)}; found {found}"
        return
    for name in rule.follows:
        if name not in tables:
            yield "", f"key 'needs': there is no [follow_up.{name}]"
    yield from _wrong_service(rule, services)
    yield from _unknown_names(rule)
    if rule.doing is not None:
        yield from rule.doing.contradictions()


def _wrong_service(rule: FollowUp, services: Mapping[str, Any]) -> Iterator[Problem]:
    """Text services that are not there, and keys that need one."""
    for key in ("service", "back"):
        named = getattr(rule, key)
        if named is not None and named not in services:
            known = ", ".join(services) or "none"
            yield "", f"key {key!r}: there is no [service.{named}]; there are: {known}"
    if rule.service is None:
        for key in ("target", "to", "bilingual", "back", "reduce"):
            if getattr(rule, key):
                yield "", f"{key!r} has no effect without 'service'"
    if (rule.bilingual or rule.back) and not rule.to:
        yield "", "key 'to' is missing: the formats that the translation is written in"


def _unknown_names(rule: FollowUp) -> Iterator[Problem]:
    """Placeholders and paths that name nothing that is known, or a follow-up whose result is not
    needed here.
    """
    for place, name in _names_in(rule):
        first, _, rest = name.partition(".")
        if first in rule.follows or (first in FACTS and first != "follow_up"):
            continue
        if first == "follow_up" and (not rest or rest.partition(".")[0] in rule.follows):
            continue
        known = ", ".join((*FACTS, *rule.follows))
        yield place, f"nothing is known as {name!r}; known are: {known}"


def _names_in(rule: FollowUp) -> Iterator[tuple[str, str]]:
    """The names that a follow-up's templates and paths begin with, and the tables that they are
    in.
    """
    if rule.doing is not None:
        for place, template in rule.doing.templates():
            if template is not None:
                yield from ((place, name) for name in template.names)
        for place, path in rule.doing.paths():
            yield from ((place, name) for name in path.root_names)
    if rule.only_if is not None:
        yield from (("", name) for name in rule.only_if.root_names)
