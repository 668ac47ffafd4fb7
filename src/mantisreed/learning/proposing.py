"""Proposing a card from whatever an API page prints."""

import tomllib
from collections.abc import Iterator
from dataclasses import dataclass

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.card_checks import read_cards
from mantisreed.engines.reading.reply import read_reply
from mantisreed.engines.reading.unpacking import UnexpectedReplyError
from mantisreed.engines.request import Piece
from mantisreed.errors import InputError, SettingsError
from mantisreed.learning.column import SAMPLE_RATE
from mantisreed.learning.curl import propose_from_curl
from mantisreed.learning.curl_command import holds_curl, read_curls
from mantisreed.learning.openapi import propose_from_openapi
from mantisreed.learning.openapi_document import read_openapi
from mantisreed.learning.proposal import Proposal
from mantisreed.learning.samples import propose_reply
from mantisreed.learning.script import propose_from_script


@dataclass(frozen=True, slots=True)
class LearningOptions:
    """What a card is proposed from.

    Attributes:
        name: of the engine.
        length: of the sound that a sample reply answers, in seconds.
        operation: of an OpenAPI document.
    """

    name: str
    length: float | None = None
    operation: str | None = None


def propose(content: bytes, options: LearningOptions) -> Proposal:
    """The card, or the part of one, that a curl command, an OpenAPI document or a sample reply
    implies.

    Args:
        content: as it was saved.
        options: what else is known.

    Raises:
        InputError: nothing can be learnt from it.
    """
    description = read_openapi(content)
    if description is not None:
        return propose_from_openapi(description, options.name, options.operation)
    text = content.decode("utf-8-sig", "replace")
    # A reply may quote a command; a page or a script does not begin as a document does.
    if holds_curl(text) and not text.lstrip().startswith(("{", "[", "<")):
        return _from_commands(text, options)
    proposal = Proposal(options.name)
    propose_reply(content, proposal, options.length)
    proposal.notes += _read_back(content, proposal, options)
    return proposal


def _from_commands(text: str, options: LearningOptions) -> Proposal:
    """A card with a step for each command of a script; for the first alone where they do not belong
    together.
    """
    try:
        commands = read_curls(text)
    except InputError:
        commands = []  # one of the later ones cannot be read
    if commands:
        proposal = propose_from_script(commands, options.name, options.length)
        if proposal is not None:
            return proposal
    return propose_from_curl(text, options.name)


# No sample is longer, so that no time in it counts as beyond the end.
_UNKNOWN_LENGTH = 6 * 3600.0  # seconds


def _read_back(sample: bytes, proposal: Proposal, options: LearningOptions) -> Iterator[str]:
    """What the sample itself, read as proposed, says against the proposal."""
    reply = tomllib.loads(proposal.toml)["engine"][options.name].get("reply", {})
    # A whole card has an address and a request; the reply alone is what is tried.
    table = {"url": "https://fill-this-in.example", "send": {"raw": "{audio}"}, "reply": reply}
    try:
        (card, *_) = read_cards(options.name, table, "the proposed card").values()
    except SettingsError as error:
        yield (
            "this is not yet a whole reply table: "
            f"{str(error).partition(': [')[2].partition(': ')[2] or error}"
        )
        return
    length = options.length or _UNKNOWN_LENGTH
    piece = Piece(b"", FORMATS["wav"], SAMPLE_RATE, 1, length, ((0.0, length),))
    try:
        read = read_reply(card, sample, piece)
    except UnexpectedReplyError as error:
        yield f"the sample itself cannot be read so: {error}"
        return
    yield from (f"read so, the sample is doubtful: {doubt}" for doubt in read.doubts)
    words = sum(len(passage.words) for passage in read.passages)
    if words:
        first, last = read.passages[0], read.passages[-1]
        if first.timing == "engine":
            how = ""
        else:
            how = "; the times of its words are estimated"
        yield (
            f"read so, the sample has {words} words from {first.start:.2f} to {last.end:.2f} s{how}"
        )
