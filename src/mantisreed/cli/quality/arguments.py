"""Arguments of the commands in this folder; what they do is in a module each."""

import argparse

from mantisreed.cli.arguments import (
    add_config,
    add_json,
    add_overwrite,
    add_plot,
    add_sources,
    at_least,
    new_file,
    share,
)

_DOUBTS_EXAMPLES = """\
examples:
  mantisreed doubts talk.transcript.json --recording talk.mp4
  mantisreed doubts talk.srt --against talk.heron.srt --json
"""


def add_doubts(parser: argparse.ArgumentParser) -> None:
    """What `doubts` takes."""
    parser.epilog = _DOUBTS_EXAMPLES
    parser.add_argument(
        "transcript", metavar="TRANSCRIPT", help="A transcript or subtitles, in any format"
    )
    parser.add_argument(
        "--recording", metavar="FILE", help="Compare the text with the speech in this"
    )
    parser.add_argument(
        "--against",
        action="append",
        default=[],
        metavar="FILE",
        help="Also tell where this transcript of the same recording differs (can be given again)",
    )
    parser.add_argument(
        "--min-grade",
        type=share,
        default=0.3,
        metavar="N",
        help="Leave out doubts with a lower grade, 0 to 1 (default: 0.3)",
    )
    add_json(parser, "Doubts as JSON on stdout")


_SCORE_EXAMPLES = """\
examples:
  mantisreed score truth.txt talk.transcript.json
  mantisreed score truth.srt brook.srt heron.vtt --json --plot errors.png
"""


def add_score(parser: argparse.ArgumentParser) -> None:
    """What `score` takes."""
    parser.epilog = _SCORE_EXAMPLES
    parser.add_argument(
        "reference", metavar="REFERENCE", help="What was said: a text, subtitles or a transcript"
    )
    parser.add_argument(
        "transcripts",
        nargs="+",
        metavar="TRANSCRIPT",
        help="The transcript, in any format",
    )
    parser.add_argument(
        "--language", metavar="TAG", help="Read numbers and hesitations in this language"
    )
    parser.add_argument(
        "--count",
        metavar="NAMES",
        default="",
        help="Count these as errors too, of case, punctuation, numbers, apostrophes, hesitations",
    )
    parser.add_argument(
        "--limit",
        type=at_least(0),
        default=3,
        metavar="N",
        help="Show the N worst passages (default: 3)",
    )
    parser.add_argument("--alignment", action="store_true", help="Show all stretches that differ")
    parser.add_argument(
        "--html",
        type=new_file,
        metavar="FILE",
        help="Write the alignment of one transcript as a page",
    )
    add_plot(parser, "Draw errors over time and calibration of confidences")
    add_json(parser, "Scores as JSON on stdout")


_COMPARE_EXAMPLES = """\
examples:
  mantisreed compare round.wav --engines brook,heron,sedge --spend-limit 1
  mantisreed compare round.wav --engines brook,heron --reference round.txt --plot engines.png
"""


def add_compare(parser: argparse.ArgumentParser) -> None:
    """What `compare` takes."""
    parser.epilog = _COMPARE_EXAMPLES
    add_sources(parser)
    add_config(parser)
    parser.add_argument(
        "--engines", required=True, metavar="A,B,C", help="Engine cards, with commas between"
    )
    parser.add_argument(
        "--reference",
        action="append",
        default=[],
        metavar="FILE",
        help="What was said: a text, subtitles or a transcript; one for each recording, in their "
        "order",
    )
    parser.add_argument(
        "--language", metavar="TAG", help="Language spoken, such as en or de-AT (default: any)"
    )
    parser.add_argument(
        "--hint",
        action="append",
        dest="hints",
        metavar="WORD",
        help="A name or rare word to expect",
    )
    parser.add_argument(
        "--into",
        default="comparison",
        metavar="DIR",
        help="Folder for a folder of each engine (default: %(default)s)",
    )
    parser.add_argument(
        "--to", metavar="FORMATS", default="json", help="Formats to write (default: %(default)s)"
    )
    parser.add_argument(
        "--spend-limit",
        metavar="AMOUNT",
        help="Stop before all engines of one currency together have cost more",
    )
    parser.add_argument(
        "--limit",
        type=at_least(0),
        default=12,
        metavar="N",
        help="Show the N longest differences (default: %(default)s)",
    )
    add_plot(parser, "Draw where the engines differ, agreement, and errors")
    add_json(parser, "Everything as JSON on stdout")
    add_overwrite(parser)


_VOTE_EXAMPLES = """\
examples:
  mantisreed vote brook.transcript.json heron.transcript.json sedge.srt --into voted
  mantisreed vote a.srt b.srt c.transcript.json --into voted --to srt,json --name talk
"""


def add_vote(parser: argparse.ArgumentParser) -> None:
    """What `vote` takes."""
    parser.epilog = _VOTE_EXAMPLES
    parser.add_argument(
        "transcripts",
        nargs="+",
        metavar="TRANSCRIPT",
        help="Two or more transcripts of one recording, in any format",
    )
    parser.add_argument("--into", metavar="DIR", required=True, help="Folder for the outputs")
    parser.add_argument(
        "--name", metavar="NAME", help="Name of the outputs (default: that of the recording)"
    )
    parser.add_argument(
        "--to",
        metavar="FORMATS",
        default="json,srt",
        help="Formats to write (default: %(default)s)",
    )
    add_json(parser, "Agreement and weights as JSON on stdout")
    add_overwrite(parser, "files that are there")


_AMEND_EXAMPLES = """\
examples:
  mantisreed amend talk.transcript.json corrected.txt --into corrected
  mantisreed amend talk.transcript.json talk.srt --into corrected --to srt,vtt,json
"""


def add_amend(parser: argparse.ArgumentParser) -> None:
    """What `amend` takes."""
    parser.epilog = _AMEND_EXAMPLES
    parser.add_argument("transcript", metavar="TRANSCRIPT", help="A .transcript.json")
    parser.add_argument(
        "corrected", metavar="CORRECTED", help="Its text as you corrected it: .txt, .md, .srt, .vtt"
    )
    parser.add_argument("--into", metavar="DIR", required=True, help="Folder for the outputs")
    parser.add_argument(
        "--to",
        metavar="FORMATS",
        default="json,srt,vtt",
        help="Formats to write (default: %(default)s)",
    )
    parser.add_argument(
        "--learn-glossary",
        type=new_file,
        metavar="FILE",
        help="Ask for each correction whether to keep it in this glossary",
    )
    parser.add_argument(
        "--recording", metavar="FILE", help="Time the new words by the speech in this recording"
    )
    add_json(parser, "What was changed as JSON on stdout")
    add_overwrite(parser, "files that are there")


_REVIEW_EXAMPLES = """\
examples:
  mantisreed review talk.transcript.json talk.mp3
  mantisreed review 3fa9 --into pages
"""


def add_review(parser: argparse.ArgumentParser) -> None:
    """What `review` takes."""
    parser.epilog = _REVIEW_EXAMPLES
    parser.add_argument(
        "wanted",
        metavar="JOB|TRANSCRIPT",
        help="A job's id, or a transcript or subtitles of any format",
    )
    parser.add_argument(
        "recording",
        nargs="?",
        metavar="RECORDING",
        help="The recording (default: that of the job, where it was)",
    )
    add_config(parser)
    parser.add_argument(
        "--into", metavar="DIR", help="Folder for the page (default: beside the transcript)"
    )
    parser.add_argument(
        "--layout", metavar="NAME", help="Layout rules of the cues (default: as in the settings)"
    )
    parser.add_argument(
        "--without-sound",
        action="store_true",
        help="Leave the sound out; the reader of the page chooses the file",
    )
    add_overwrite(parser, "a page that is there")


_REDACT_EXAMPLES = """\
examples:
  mantisreed redact call.transcript.json --redact-names people.txt
  mantisreed redact call.transcript.json call.wav --strong-words mask --into clean
"""


def add_redact(parser: argparse.ArgumentParser) -> None:
    """What `redact` takes."""
    parser.epilog = _REDACT_EXAMPLES
    parser.add_argument(
        "transcript", metavar="TRANSCRIPT", help="A transcript or subtitles, in any format"
    )
    parser.add_argument(
        "recording",
        nargs="?",
        metavar="RECORDING",
        help="Its recording, of which a copy is written",
    )
    parser.add_argument(
        "--into", metavar="DIR", help="Folder for the copies (default: only list them)"
    )
    parser.add_argument(
        "--to",
        metavar="FORMATS",
        default="json,srt",
        help="Formats to write (default: %(default)s)",
    )
    parser.add_argument(
        "--redact-kinds",
        default="all",
        metavar="KINDS",
        help="Of mail, phone, card, iban, digits, name and pattern, with commas between (default: "
        "%(default)s)",
    )
    parser.add_argument("--redact-names", metavar="FILE", help="Names to hide, one on each line")
    parser.add_argument(
        "--redact-pattern",
        action="append",
        default=[],
        metavar="REGEX",
        help="Hide text like this (repeatable)",
    )
    parser.add_argument(
        "--strong-words",
        choices=("keep", "mask"),
        default="keep",
        help="Keep strong words, or hide them too (default: %(default)s)",
    )
    parser.add_argument(
        "--strong-words-file", metavar="FILE", help="Your own list, one word on each line"
    )
    parser.add_argument(
        "--cover",
        choices=("tone", "silence"),
        default="tone",
        help="Cover words with this (default: %(default)s)",
    )
    parser.add_argument(
        "--margin",
        metavar="DURATION",
        help="Cover this much around each word (default: 0.1s; 0.4s if estimated)",
    )
    add_json(parser, "What was found as JSON on stdout")
    add_overwrite(parser, "files that are there")
