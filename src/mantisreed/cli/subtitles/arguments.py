"""Arguments of the commands in this folder; what they do is in a module each."""

import argparse

from mantisreed.cli.arguments import (
    add_config,
    add_formats,
    add_json,
    add_layout,
    add_overwrite,
    add_plot,
    add_video,
    add_writing,
)

_EXPORT_EXAMPLES = """\
examples:
  mantisreed export 3fa9 --to ttml,md --into subtitles
  mantisreed export talk.transcript.json --to srt --layout phone --stdout
"""


def add_export(parser: argparse.ArgumentParser) -> None:
    """What `export` takes."""
    parser.epilog = _EXPORT_EXAMPLES
    parser.add_argument(
        "wanted",
        nargs="+",
        metavar="JOB|TRANSCRIPT",
        help="A job's id, or a .transcript.json",
    )
    add_config(parser)
    add_formats(parser)
    parser.add_argument(
        "--into",
        metavar="DIR",
        help="Folder for outputs (default: their last folder)",
    )
    add_overwrite(parser)
    parser.add_argument(
        "--stdout", action="store_true", help="To stdout, one format of one transcript"
    )
    add_video(parser)
    add_writing(parser)
    add_layout(parser)


_CONVERT_EXAMPLES = """\
examples:
  mantisreed convert talk.srt talk.vtt --shift 2.5s
  mantisreed convert *.srt --to vtt --into web
  mantisreed convert part1.srt part2.srt whole.ttml --join --offsets 0,47:10
"""


def add_convert(parser: argparse.ArgumentParser) -> None:
    """What `convert` takes."""
    parser.epilog = _CONVERT_EXAMPLES
    parser.add_argument(
        "files",
        nargs="+",
        metavar="FILE",
        help="A file to read and one to write, - for standard input and output",
    )
    parser.add_argument(
        "--to", metavar="FORMATS", help="Formats to write (default: by the name's ending)"
    )
    parser.add_argument(
        "--into",
        metavar="DIR",
        help="Convert each file into this folder, under its own name",
    )
    parser.add_argument(
        "--join", action="store_true", help="Join all files but the last into the last"
    )
    parser.add_argument(
        "--offsets",
        metavar="TIMES",
        help="With --join, where each file begins: 0,47:10 (default: where the one before ends)",
    )
    parser.add_argument(
        "--read-as",
        metavar="FORMAT",
        help="Format of the input (default: by its name or text)",
    )
    parser.add_argument(
        "--encoding",
        metavar="NAME",
        help="Encoding of the input, such as cp1250 (default: found out)",
    )
    parser.add_argument(
        "--shift",
        metavar="DURATION",
        help="Later by this much; earlier with a minus: --shift=-2s",
    )
    parser.add_argument(
        "--stretch", metavar="N/M", help="All times by this factor, such as 25/23.976"
    )
    parser.add_argument(
        "--from",
        dest="since",
        metavar="TIME",
        help="Drop cues that end before this; clip a cue at it",
    )
    parser.add_argument(
        "--until", metavar="TIME", help="Drop cues that begin after this; clip a cue at it"
    )
    parser.add_argument(
        "--recording",
        metavar="FILE",
        help="Time a plain text by where somebody speaks in this",
    )
    parser.add_argument("--lay-out", action="store_true", help="Lay cues out anew by the rules")
    add_overwrite(parser, "the file that is written")
    add_config(parser)
    add_video(parser)
    add_writing(parser)
    add_layout(parser)


_SYNC_EXAMPLES = """\
examples:
  mantisreed sync drifted.srt talk.srt --recording talk.mp4
  mantisreed sync late.srt talk.srt --first 0:01.2 --last 58:03
"""


def add_sync(parser: argparse.ArgumentParser) -> None:
    """What `sync` takes."""
    parser.epilog = _SYNC_EXAMPLES
    parser.add_argument("source", metavar="FILE", help="Subtitles to read")
    parser.add_argument(
        "target",
        metavar="OUT",
        help="Subtitles to write, in the format of the name's ending",
    )
    parser.add_argument(
        "--recording", metavar="FILE", help="Lay the cues on the speech in this recording"
    )
    parser.add_argument(
        "--like",
        metavar="FILE",
        help="Lay the cues on those of other subtitles of the same recording",
    )
    parser.add_argument(
        "--first", metavar="TIME", help="Let the first cue begin at this time, with --last"
    )
    parser.add_argument(
        "--last", metavar="TIME", help="Let the last cue begin at this time, with --first"
    )
    parser.add_argument(
        "--encoding", metavar="NAME", help="Encoding of the input (default: found out)"
    )
    add_json(parser, "What was done as JSON on stdout")
    add_overwrite(parser, "the file that is written")


_CHECK_EXAMPLES = """\
examples:
  mantisreed check talk.srt talk.vtt --layout phone
  mantisreed check talk.vtt --plot talk.png --fix
"""


def add_check(parser: argparse.ArgumentParser) -> None:
    """What `check` takes."""
    parser.epilog = _CHECK_EXAMPLES
    parser.add_argument("files", nargs="+", metavar="FILE", help="Subtitles: .srt, .vtt, .ttml")
    add_config(parser)
    parser.add_argument(
        "--fix",
        action="store_true",
        help="Repair each cue that breaks a rule, and the format; keep each earlier version as "
        "FILE.before",
    )
    parser.add_argument(
        "--language",
        metavar="TAG",
        help="Check where lines break in this language, such as en",
    )
    parser.add_argument(
        "--recording",
        metavar="FILE",
        help="Check that cues stand while somebody speaks in this",
    )
    parser.add_argument(
        "--encoding", metavar="NAME", help="Encoding of the files (default: found out)"
    )
    add_plot(parser, "Draw reading speed over time, and lengths of cues")
    add_json(parser, "Findings as JSON on stdout")
    add_layout(parser)
