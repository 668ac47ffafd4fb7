"""What goes to a destination: all that is known of a recording, and its files."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from mantisreed.cards.templates import Template
from mantisreed.errors import InputError, MantisreedError

FACTS = (
    *(
        "recording",
        "source",
        "stem",
        "job",
        "state",
        "engine",
        "language",
        "duration",
        "words",
        "confidence",
    ),
    *("speakers", "text", "cost", "error", "files", "about", "follow_up"),
)
"""Names of all that is known of a recording."""

_NOTHING = "\ue000"
"""Stands for a value that is not known, until a template is filled in; a sign that no text has
(private use).
"""


class DeliveryError(MantisreedError):
    """A destination did not take something.

    Attributes:
        may_pass: whether trying again by itself makes sense.
        may_be_there: whether it may have been taken all the same.
        wants_later: whether the destination answered that it takes it later.
    """

    def __init__(
        self,
        what: str,
        *,
        where: str | None = None,
        advice: str | None = None,
        may_pass: bool = False,
        may_be_there: bool = False,
        wants_later: bool = False,
    ) -> None:
        super().__init__(what, where=where, advice=advice)
        self.may_pass, self.may_be_there = may_pass or wants_later, may_be_there
        self.wants_later = wants_later


@dataclass(frozen=True, slots=True)
class ParcelFile:
    """A file of a recording.

    Attributes:
        name: of the file.
        content: its bytes.
        kind: the output format, or the name of the follow-up that made it.
    """

    name: str
    content: bytes = field(repr=False)
    kind: str


@dataclass(frozen=True, slots=True)
class Parcel:
    """One recording's results.

    Attributes:
        key: the same for the same result at the same destination, and for no other.
        facts: all that is known, as tables, lists, texts and numbers; results of follow-ups are
            under `after`.
        files: its outputs, and files of follow-ups.
    """

    key: str
    facts: Mapping[str, Any]
    files: Sequence[ParcelFile] = ()

    def chosen(self, kinds: Sequence[str]) -> list[ParcelFile]:
        """Files of these kinds, in that order; all where none is named.

        Raises:
            InputError: there is no file of one of the kinds.
        """
        if not kinds:
            return list(self.files)
        missing = [kind for kind in kinds if not any(file.kind == kind for file in self.files)]
        if missing:
            known = ", ".join(dict.fromkeys(file.kind for file in self.files)) or "none"
            raise InputError(
                f"there is no file {missing[0]!r} of this recording", advice=f"there are: {known}"
            )
        chosen = []
        for kind in kinds:
            chosen += [file for file in self.files if file.kind == kind]
        return chosen

    def filled(self, template: Template, encode: Callable[[str], str] | None = None) -> str:
        """A template with what is known; what is not known is empty.

        Args:
            template: it.
            encode: done to each value, for places that need it.
        """
        known = {
            name: value for name, value in flat(self.facts).items() if value not in ("", [], {})
        }
        # A template without one of its values would be left out as a whole; here the rest of it is
        # wanted.
        text = template.text({**dict.fromkeys(template.names, _NOTHING), **known}, encode) or ""
        return text.replace(_NOTHING, "")


def flat(facts: Mapping[str, Any]) -> dict[str, Any]:
    """What placeholders stand for: `{words}`, `{about.title}`, `{follow_up.tone}`; deeper tables by
    their names.

    A result of a follow-up has its own name too, and so has each of its fields: `{tone.mood}`.
    """
    known: dict[str, Any] = {}
    for name, value in facts.items():
        if not isinstance(value, Mapping):
            known[name] = value
            continue
        for inner, found in value.items():
            known[f"{name}.{inner}"] = found if not isinstance(found, Mapping) else dict(found)
            if name != "follow_up":
                continue
            known.setdefault(inner, known[f"{name}.{inner}"])
            if isinstance(found, Mapping):
                known |= {f"{inner}.{key}": one for key, one in found.items()}
                known |= {f"{name}.{inner}.{key}": one for key, one in found.items()}
    return {name: "" if value is None else value for name, value in known.items()}
