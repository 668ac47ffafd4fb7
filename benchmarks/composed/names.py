"""Names that a service gives to things: never the ones that anybody would guess."""

import json
import random
import re

_NOUNS = (
    *(
        "reed",
        "tide",
        "mud",
        "quill",
        "creek",
        "sedge",
        "drift",
        "ebb",
        "marl",
        "fen",
        "wrack",
        "spit",
        "shoal",
    ),
    *(
        "bar",
        "ooze",
        "brine",
        "gully",
        "samphire",
        "cord",
        "net",
        "ring",
        "perch",
        "roost",
        "nest",
        "bank",
        "sluice",
    ),
    *(
        "weir",
        "pool",
        "pan",
        "dyke",
        "stake",
        "flood",
        "slack",
        "swell",
        "foam",
        "silt",
        "shell",
        "kelp",
        "rush",
    ),
    *(
        "plume",
        "claw",
        "bill",
        "crest",
        "vane",
        "barb",
        "down",
        "brood",
        "flock",
        "wader",
        "skein",
        "raft",
        "wisp",
    ),
    *(
        "haze",
        "gale",
        "squall",
        "lull",
        "dusk",
        "dawn",
        "ford",
        "ferry",
        "quay",
        "buoy",
        "mast",
        "oar",
        "keel",
        "hull",
    ),
)
_PLAIN = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


class Names:
    """Gives names, each once."""

    def __init__(self, chance: random.Random) -> None:
        self._chance = chance
        self._left = list(_NOUNS)
        chance.shuffle(self._left)
        self._style = chance.choice(("snake", "camel", "kebab", "pascal", "short"))
        self._count = 0

    def new(self) -> str:
        """A name as this service writes them."""
        first = self._noun()
        if self._style == "short" or self._chance.random() < 0.5:
            return first
        second = self._noun()
        if self._style == "snake":
            return f"{first}_{second}"
        if self._style == "kebab":
            return f"{first}-{second}"
        if self._style == "pascal":
            capital = first.capitalize()
        else:
            capital = first
        return capital + second.capitalize()

    def plain(self) -> str:
        """A name of small letters alone, for placeholders, paths and states."""
        return self._noun()

    def header(self) -> str:
        """A header's name."""
        return f"X-{self._noun().capitalize()}-{self._noun().capitalize()}"

    def _noun(self) -> str:
        self._count += 1
        if self._left:
            return self._left.pop()
        return f"place{self._count}"


def path_of(*names: str) -> str:
    """The JMESPath expression for a value in tables in tables."""
    return ".".join(name if _PLAIN.fullmatch(name) else json.dumps(name) for name in names)
