"""The demo's recordings: a day at a bird-ringing station on a salt marsh."""

from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

from mantisreed.standin.bank import Phrase
from mantisreed.standin.composer import Composition, compose
from mantisreed.standin.habits import Habits

FIELD_NOTE = "field note.wav"
RADIO_CALL = "radio-call.flac"
BRIEFING = "evening-briefing.mp3"
BOAT_CLIP = "boat-clip.opus"
GERMAN_NOTE = "Prielnotiz »früh's« (2) 🪶.m4a"

NIGHT_WATCH = "night-watch.flac"
"""A recording that an engine with bad habits hears."""

NIGHT_HABITS = Habits(silence=0.35, loop=0.15, missing=0.12, language=0.1)

FLOW_NOTES = ("net-round.flac", "tern-raft.flac", "slipway.flac")
"""Recordings that come into the watched folder."""

FLOW = """
[settings]
engine = "brook"
language = "en"
to = ["srt", "txt", "json"]

[follow_up.german]
service = "godwit"
target = "de"
to = ["srt"]

[follow_up.tone]
service = "turnstone"

[follow_up.digest]
service = "sanderling"
reduce = true

[follow_up.row]
needs = ["tone", "digest"]
rows.file = "notes.csv"
[follow_up.row.rows.columns]
recording = "recording"
words = "words"
tone = "follow_up.tone.tone"
topics = "follow_up.tone.topics"
digest = "follow_up.digest"

[follow_up.mail]
needs = ["german", "tone", "digest"]
[follow_up.mail.mail]
server = "{server}"
sender = "hut@marsh.example"
to = ["warden@marsh.example"]
subject = "{{recording}}: {{tone.tone}}, {{words}} words"
body = "{{digest}}\\n\\nThe whole text:\\n\\n{{text}}"
attach = ["german"]
"""
"""What happens after each transcript of the flow; `{server}` is the mail box."""


def demo_compositions(phrases: Sequence[Phrase]) -> dict[str, Composition]:
    """File names, the endings of which say the format, and what is in them."""

    def said_by(*voices: str) -> list[Phrase]:
        return [phrase for phrase in phrases if phrase.voice in voices]

    return {
        FIELD_NOTE: compose(said_by("ringer"), seed=11, duration=20, pauses=(0.4, 1.2)),
        RADIO_CALL: compose(
            said_by("ringer", "skipper"),
            seed=12,
            duration=75,
            pauses=(-0.3, 1.0),
            level_range=4,
            snr=25,
            channels=2,
        ),
        BRIEFING: compose(
            said_by("warden", "skipper"), seed=13, duration=300, pauses=(0.5, 2.0), level_range=6
        ),
        BOAT_CLIP: compose(said_by("skipper"), seed=14, duration=40, level_range=3, snr=10),
        GERMAN_NOTE: compose(said_by("guest"), seed=15, duration=30, pauses=(0.4, 1.4), snr=30),
    }


def flow_compositions(phrases: Sequence[Phrase]) -> dict[str, Composition]:
    """What comes into the watched folder."""
    spoken = [phrase for phrase in phrases if phrase.language == "en"]
    return {
        name: compose(spoken, seed=20 + number, duration=24, pauses=(0.5, 1.4))
        for number, name in enumerate(FLOW_NOTES)
    }


def night_composition(phrases: Sequence[Phrase]) -> Composition:
    """What is said on the night watch."""
    spoken = [phrase for phrase in phrases if phrase.language == "en"]
    return compose(spoken, seed=31, duration=100, pauses=(0.8, 3.0), snr=25)


def write_recordings(compositions: dict[str, Composition], folder: Path) -> Iterator[str]:
    """Render all into the folder, several at a time; gives each name when it is written."""
    with ThreadPoolExecutor() as pool:
        jobs = {
            pool.submit(composition.write, folder / name): name
            for name, composition in sorted(
                compositions.items(), key=lambda item: -item[1].duration
            )
        }
        for job in as_completed(jobs):
            job.result()
            yield jobs[job]
