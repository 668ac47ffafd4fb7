"""Recordings in, timestamped transcripts and subtitles out, by whichever speech-to-text engine you have.

    import mantisreed

    workspace = mantisreed.open_workspace()
    outcomes = mantisreed.transcribe(["note.wav"], workspace, engine="brook")

Names are imported when they are first used, so that `import mantisreed` costs nothing.
"""

TYPE_CHECKING = False  # typing itself takes longer to import than all that --help needs
if TYPE_CHECKING:
    from mantisreed.errors import MantisreedError
    from mantisreed.pipeline.pieces import PieceOptions
    from mantisreed.pipeline.run import Outcome
    from mantisreed.pipeline.transcribe import transcribe
    from mantisreed.transcript.document import Passage, Transcript, Word
    from mantisreed.workspace import Workspace, open_workspace

__version__ = "0.1.0"

__all__ = [
    "MantisreedError",
    "Outcome",
    "Passage",
    "PieceOptions",
    "Transcript",
    "Word",
    "Workspace",
    "__version__",
    "open_workspace",
    "transcribe",
]

_HOMES = {
    "MantisreedError": "errors",
    "Outcome": "pipeline.run",
    "Passage": "transcript.document",
    "PieceOptions": "pipeline.pieces",
    "Transcript": "transcript.document",
    "Word": "transcript.document",
    "Workspace": "workspace",
    "open_workspace": "workspace",
    "transcribe": "pipeline.transcribe",
}


def __getattr__(name: str) -> object:
    if name not in _HOMES:
        raise AttributeError(f"module 'mantisreed' has no attribute {name!r}")
    from importlib import import_module

    return getattr(import_module(f"mantisreed.{_HOMES[name]}"), name)
