"""What is hidden in outputs, as options have it; finding and hiding are in
`mantisreed.review.personal`.
"""

import re
from pathlib import Path

import msgspec

from mantisreed.errors import InputError
from mantisreed.exports.word_lists import listed_lines

KINDS = ("mail", "phone", "card", "iban", "digits", "name", "pattern")
"""Mail addresses, written or spoken; phone numbers; numbers of cards and of accounts, by their
check digits; digits
that are read out; names from a list; patterns of one's own."""


class Redaction(msgspec.Struct, frozen=True):
    """What is hidden.

    Attributes:
        kinds: of `KINDS`.
        names: whole names, in any case.
        patterns: regular expressions, as Python has them; they see the text with single spaces.
        strong_words: these too; one that ends with `*` stands for all words that begin so.
    """

    kinds: tuple[str, ...] = KINDS
    names: tuple[str, ...] = ()
    patterns: tuple[str, ...] = ()
    strong_words: tuple[str, ...] = ()


def redaction_from(
    kinds: str, names: Path | None, patterns: tuple[str, ...], *, more_names: tuple[str, ...] = ()
) -> Redaction:
    """What the user says.

    Args:
        kinds: names of kinds with commas between; `all` for every one.
        names: a file with a name on each line, `#` before remarks.
        patterns: regular expressions.
        more_names: that are hidden too, from the settings.

    Raises:
        InputError: there is no such kind, the file cannot be read, a pattern is none, or a kind
            that was named has nothing to look for.
    """
    named = [kind.strip() for kind in kinds.split(",") if kind.strip()]
    chosen: tuple[str, ...] = tuple(dict.fromkeys(named))
    # With everything that can be found; names and patterns come below, where there are some.
    if "all" in named:
        chosen = KINDS
    if unknown := [kind for kind in chosen if kind not in KINDS]:
        advice = f"kinds are {', '.join(KINDS)}, and all"
        raise InputError(
            f"nothing of the kind {unknown[0]!r} can be hidden", where="--redact", advice=advice
        )
    # A kind without anything to look for would hide nothing, and nobody would notice.
    searched = {"name": names is not None or bool(more_names), "pattern": bool(patterns)}
    for kind, is_given in searched.items():
        if kind in named and not is_given:
            if kind == "name":
                what = "a list of names"
            else:
                what = "a pattern"
            raise InputError(
                f"the kind {kind!r} hides nothing without {what}", advice=f"give {what} as well"
            )
    for pattern in patterns:
        try:
            re.compile(pattern)
        except re.error as error:
            raise InputError(
                f"{pattern!r} is no regular expression ({error})", where="--redact-pattern"
            ) from error
    # Who names names or patterns wants them hidden, whatever kinds are chosen.
    more = [kind for kind, is_given in searched.items() if is_given]
    if names is None:
        listed = []
    else:
        listed = [" ".join(line.split()) for line in listed_lines(names, "names")]
    all_names = tuple(dict.fromkeys((*listed, *more_names)))
    return Redaction(tuple(dict.fromkeys((*chosen, *more))), all_names, patterns)
