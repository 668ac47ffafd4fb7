"""Comparing a transcript with what a stranger said."""

from collections.abc import Mapping
from typing import Any

from composed.replies import Truth

_MOST_APART = 0.00101  # seconds


def differences(truth: Truth, transcript: Mapping[str, Any], start: float = 0.0) -> list[str]:
    """Where a transcript differs from what the reply said.

    Args:
        truth: what it said.
        transcript: a transcript document.
        start: where the piece that was sent begins in the recording, in seconds.
    """
    passages = transcript["passages"]
    found: list[str] = []
    text = " ".join(passage["text"] for passage in passages)
    if text != truth.text:
        found.append(f"text: expected {truth.text!r}, found {text!r}")
    if truth.language is not None and transcript.get("language") != truth.language:
        found.append(f"language: expected {truth.language}, found {transcript.get('language')}")
    if len(transcript.get("events") or ()) != truth.events:
        found.append(f"events: expected {truth.events}, found {transcript.get('events')}")
    if not truth.has_times:
        return found
    words = [(word, passage) for passage in passages for word in passage["words"]]
    if len(words) != len(truth.words):
        return [*found, f"expected {len(truth.words)} words, found {len(words)}"]
    for number, (wanted, (word, passage)) in enumerate(zip(truth.words, words, strict=True)):
        place = f"word {number} {wanted.text!r}"
        if word["text"] != wanted.text:
            found.append(f"{place}: found {word['text']!r}")
        found += [
            f"{place}: {key} expected {getattr(wanted, key)}, found {word[key] - start:.4f}"
            for key in ("start", "end")
            if abs(word[key] - start - getattr(wanted, key)) > _MOST_APART
        ]
        confidence = word.get("confidence")
        if (confidence is None) != (wanted.confidence is None) or (
            confidence is not None
            and wanted.confidence is not None
            and abs(confidence - wanted.confidence) > 0.002
        ):
            found.append(f"{place}: confidence expected {wanted.confidence}, found {confidence}")
        if passage.get("speaker") != wanted.speaker:
            found.append(
                f"{place}: speaker expected {wanted.speaker}, found {passage.get('speaker')}"
            )
    return found
