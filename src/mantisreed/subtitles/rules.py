"""Layout rules: how cues may look, and the named sets that ship."""

from collections.abc import Mapping
from typing import Annotated, Literal

import msgspec

from mantisreed.transcript.writing import language_of_script

SpeakerStyle = Literal["dash", "dash-each", "name", "none"]


class LayoutRules(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How cues may look; also `[layout.NAME]` in the settings. Lengths in seconds.

    Attributes:
        line_length: columns of a line at most; full-width characters take two. A longer single word
            stands alone.
        lines: lines of a cue at most.
        max_cps: characters per second at most that somebody has to read; full-width characters
            count as two.
        max_wpm: the same in words a minute, instead of `max_cps`; a word is six characters, its
            space with them.
        shortest, longest: how long a cue stands.
        gap: between two cues at least.
        linger: how long a cue stays after its last word, where there is room.
        flicker: a gap that is shorter than this is closed to the smallest one: between two cues
            that stand so near each other, the eye takes an empty screen for a flicker.
        frame_rate: frames a second of the video, on which all times are then; None for times as
            they come.
        longest_pause: silence that a cue may bridge.
        speakers: how speakers are told apart. `dash`: a quick exchange of two shares a cue, a dash
            before each of its lines; `dash-each`: also a dash before each new speaker's first cue;
            `name`: their name there;
            `none`: not at all.
        sounds: descriptions of sounds, such as `[a door slams]`: `apart` in cues of their own, or
            `drop`.
        by_language: which of `line_length` and `max_cps` are those of Latin scripts, and give way
            to what is usual in Chinese, Japanese and Korean. The sets that ship have both; one that
            is set by hand holds as it is.
    """

    line_length: Annotated[int, msgspec.Meta(ge=8, le=200)] = 42
    lines: Annotated[int, msgspec.Meta(ge=1, le=6)] = 2
    max_cps: Annotated[float, msgspec.Meta(gt=0)] = 17.0
    max_wpm: Annotated[float, msgspec.Meta(gt=0)] | None = None
    shortest: Annotated[float, msgspec.Meta(ge=0)] = 1.0
    longest: Annotated[float, msgspec.Meta(gt=0)] = 7.0
    gap: Annotated[float, msgspec.Meta(ge=0)] = 0.08
    linger: Annotated[float, msgspec.Meta(ge=0, le=5)] = 0.5
    flicker: Annotated[float, msgspec.Meta(ge=0, le=5)] = 0.5
    frame_rate: Annotated[float, msgspec.Meta(ge=1, le=240)] | None = None
    longest_pause: Annotated[float, msgspec.Meta(gt=0)] = 1.5
    speakers: SpeakerStyle = "dash"
    sounds: Literal["apart", "drop"] = "apart"
    by_language: tuple[Literal["line_length", "max_cps"], ...] = ()

    @property
    def speed(self) -> float:
        """Characters per second at most, by whichever way it is said."""
        if self.max_wpm is None:
            return self.max_cps
        return self.max_wpm * CHARACTERS_OF_A_WORD / 60.0

    def changed(self, changes: Mapping[str, object]) -> "LayoutRules":
        """The rules with others in place of some; what is set by hand depends on no language.

        Raises:
            msgspec.ValidationError: a value makes no sense.
        """
        own = {**msgspec.structs.asdict(self), **changes}
        if {"max_cps", "max_wpm"} & changes.keys():
            by_hand = {"max_cps", "max_wpm"}
        else:
            by_hand = set()
        if "by_language" not in changes:
            own["by_language"] = [
                name for name in self.by_language if name not in changes and name not in by_hand
            ]
        if "max_cps" in changes and "max_wpm" not in changes:
            own["max_wpm"] = None
        return msgspec.convert(own, LayoutRules)

    def for_language(self, language: str | None, sample: str = "") -> "LayoutRules":
        """The rules as they are for a language.

        Args:
            language: a tag; None goes by the script of the sample.
            sample: some of the text.
        """
        tongue = (language or language_of_script(sample) or "").split("-")[0].lower()
        limits = LIMITS.get(tongue)
        if limits is None or not self.by_language:
            return self
        columns, speed = limits
        changes: dict[str, object] = {"by_language": ()}
        if "line_length" in self.by_language:
            # Whole full-width characters, in proportion: a set for narrow screens stays one.
            changes["line_length"] = max(8, round(self.line_length * columns / LATIN[0]) // 2 * 2)
        if "max_cps" in self.by_language and self.max_wpm is None:
            changes["max_cps"] = round(self.max_cps * speed / LATIN[1], 1)
        return self.changed(changes)


CHARACTERS_OF_A_WORD = 6.0
"""Of English text, its space with it; the usual ratio between words a minute and characters a
second.
"""

LATIN = (42, 17.0)  # columns of a line, and characters a second
LIMITS: Mapping[str, tuple[int, float]] = {
    "ja": (32, 8.0),
    "zh": (32, 18.0),
    "yue": (32, 18.0),
    "ko": (32, 24.0),
}
"""Columns of a line and columns a second, by language: 16 full-width characters, and 4, 9 and 12 of
them a second.
"""

_BY_LANGUAGE: tuple[Literal["line_length", "max_cps"], ...] = ("line_length", "max_cps")

LAYOUTS: Mapping[str, LayoutRules] = {
    "broadcast": LayoutRules(by_language=_BY_LANGUAGE),
    "phone": LayoutRules(line_length=30, max_cps=15.0, longest=5.0, by_language=_BY_LANGUAGE),
    "single": LayoutRules(lines=1, by_language=_BY_LANGUAGE),
    "slow": LayoutRules(line_length=37, max_cps=12.0, shortest=1.5, by_language=_BY_LANGUAGE),
    "children": LayoutRules(line_length=37, max_cps=13.0, shortest=1.2, by_language=_BY_LANGUAGE),
}
"""The sets that are always there; the settings may change them and add others."""

DEFAULT_LAYOUT = "broadcast"
