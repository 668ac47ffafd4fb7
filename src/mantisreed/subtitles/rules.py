"""Layout rules: how cues may look, and the named sets that ship."""

from collections.abc import Mapping
from typing import Annotated, Literal

import msgspec

SpeakerStyle = Literal["dash", "dash-each", "name", "none"]


class LayoutRules(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """How cues may look; also `[layout.NAME]` in the settings. Lengths in seconds.

    Attributes:
        line_length: columns of a line at most; full-width characters take two. A longer single word stands alone.
        lines: lines of a cue at most.
        max_cps: characters per second at most that somebody has to read.
        shortest, longest: how long a cue stands.
        gap: between two cues at least.
        linger: how long a cue stays after its last word, where there is room.
        flicker: a gap that is shorter than this is closed to the smallest one: between two cues that stand so near
            each other, the eye takes an empty screen for a flicker.
        frame_rate: frames a second of the video, on which all times are then; None for times as they come.
        longest_pause: silence that a cue may bridge.
        speakers: how speakers are told apart. `dash`: a quick exchange of two shares a cue, a dash before each of
            its lines; `dash-each`: also a dash before each new speaker's first cue; `name`: their name there;
            `none`: not at all.
    """

    line_length: Annotated[int, msgspec.Meta(ge=8, le=200)] = 42
    lines: Annotated[int, msgspec.Meta(ge=1, le=6)] = 2
    max_cps: Annotated[float, msgspec.Meta(gt=0)] = 17.0
    shortest: Annotated[float, msgspec.Meta(ge=0)] = 1.0
    longest: Annotated[float, msgspec.Meta(gt=0)] = 7.0
    gap: Annotated[float, msgspec.Meta(ge=0)] = 0.08
    linger: Annotated[float, msgspec.Meta(ge=0, le=5)] = 0.5
    flicker: Annotated[float, msgspec.Meta(ge=0, le=5)] = 0.5
    frame_rate: Annotated[float, msgspec.Meta(ge=1, le=240)] | None = None
    longest_pause: Annotated[float, msgspec.Meta(gt=0)] = 1.5
    speakers: SpeakerStyle = "dash"


LAYOUTS: Mapping[str, LayoutRules] = {
    "broadcast": LayoutRules(),
    "phone": LayoutRules(line_length=30, max_cps=15.0, longest=5.0),
    "single": LayoutRules(lines=1),
    "slow": LayoutRules(line_length=37, max_cps=12.0, shortest=1.5),
}
"""The sets that are always there; the settings may change them and add others."""

DEFAULT_LAYOUT = "broadcast"
