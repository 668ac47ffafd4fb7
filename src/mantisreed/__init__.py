"""Recordings in, timestamped transcripts and subtitles out, by whichever speech-to-text engine you
have.

    import mantisreed

    workspace = mantisreed.open_workspace()
    outcomes = mantisreed.transcribe(["note.wav"], workspace, mantisreed.RunOptions(engine="brook"))

Names are imported when they are first used, so that `import mantisreed` costs nothing.
"""

from mantisreed.version import __version__

TYPE_CHECKING = False  # typing itself takes longer to import than all that --help needs
if TYPE_CHECKING:
    from mantisreed.errors import MantisreedError
    from mantisreed.exports.formats import OUTPUT_FORMATS
    from mantisreed.exports.script import Script, WriteOptions
    from mantisreed.exports.word_lists import Wording
    from mantisreed.exports.wording import reworded
    from mantisreed.pipeline.incoming.live import LiveOptions, listen
    from mantisreed.pipeline.incoming.watching import WatchHooks, WatchOptions, watch
    from mantisreed.pipeline.options import RunOptions, Translation
    from mantisreed.pipeline.outcomes import Outcome
    from mantisreed.pipeline.preparing.cut_limits import PieceOptions
    from mantisreed.pipeline.sent_jobs.cancelling import cancel
    from mantisreed.pipeline.sent_jobs.collecting import collect
    from mantisreed.pipeline.sent_jobs.retrying import retry
    from mantisreed.pipeline.transcribe import transcribe, transcribe_async
    from mantisreed.subtitles.check import check_cues
    from mantisreed.subtitles.cues import Cue
    from mantisreed.subtitles.fixing import fixed
    from mantisreed.subtitles.layout import lay_out
    from mantisreed.subtitles.rules import LayoutRules
    from mantisreed.transcript.document import Passage, Transcript, Word
    from mantisreed.workbench.exporting import export, read_script
    from mantisreed.workspace import Workspace, open_workspace

__all__ = [
    "OUTPUT_FORMATS",
    "Cue",
    "LayoutRules",
    "LiveOptions",
    "MantisreedError",
    "Outcome",
    "Passage",
    "PieceOptions",
    "RunOptions",
    "Script",
    "Transcript",
    "Translation",
    "WatchHooks",
    "WatchOptions",
    "Word",
    "Wording",
    "Workspace",
    "WriteOptions",
    "__version__",
    "cancel",
    "check_cues",
    "collect",
    "export",
    "fixed",
    "lay_out",
    "listen",
    "open_workspace",
    "read_script",
    "retry",
    "reworded",
    "transcribe",
    "transcribe_async",
    "watch",
]

_HOMES = {
    "OUTPUT_FORMATS": "exports.formats",
    "Cue": "subtitles.cues",
    "LayoutRules": "subtitles.rules",
    "LiveOptions": "pipeline.incoming.live",
    "MantisreedError": "errors",
    "Outcome": "pipeline.outcomes",
    "Passage": "transcript.document",
    "PieceOptions": "pipeline.preparing.cut_limits",
    "RunOptions": "pipeline.options",
    "Script": "exports.script",
    "Transcript": "transcript.document",
    "Translation": "pipeline.options",
    "WatchHooks": "pipeline.incoming.watching",
    "WatchOptions": "pipeline.incoming.watching",
    "Word": "transcript.document",
    "Wording": "exports.word_lists",
    "Workspace": "workspace",
    "WriteOptions": "exports.script",
    "cancel": "pipeline.sent_jobs.cancelling",
    "check_cues": "subtitles.check",
    "collect": "pipeline.sent_jobs.collecting",
    "export": "workbench.exporting",
    "lay_out": "subtitles.layout",
    "listen": "pipeline.incoming.live",
    "fixed": "subtitles.fixing",
    "open_workspace": "workspace",
    "read_script": "workbench.exporting",
    "retry": "pipeline.sent_jobs.retrying",
    "reworded": "exports.wording",
    "transcribe": "pipeline.transcribe",
    "transcribe_async": "pipeline.transcribe",
    "watch": "pipeline.incoming.watching",
}


def __getattr__(name: str) -> object:
    if name not in _HOMES:
        raise AttributeError(f"module 'mantisreed' has no attribute {name!r}")
    from importlib import import_module

    return getattr(import_module(f"mantisreed.{_HOMES[name]}"), name)


def __dir__() -> list[str]:
    return list(__all__)
