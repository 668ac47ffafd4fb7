"""Arguments of the commands in this folder; what they do is in a module each."""

import argparse

from mantisreed.cli.arguments import (
    add_config,
    add_engine,
    add_job_ids,
    add_json,
    add_options,
    add_overwrite,
    add_pieces,
    add_plot,
    add_report,
    add_sending,
    add_sources,
    at_least,
)
from mantisreed.options import AFRESH, FEEDS, FOLDERS, TRACK

_RUN_EXAMPLES = """\
examples:
  mantisreed run recordings/ --language en --to srt,vtt --spend-limit 2.50
  arecord -f S16_LE -r 16000 | mantisreed run - --live --pause 1s
"""


def add_run(parser: argparse.ArgumentParser) -> None:
    """What `run` takes."""
    parser.epilog = _RUN_EXAMPLES
    add_sources(parser)
    add_sending(parser)
    add_pieces(parser)
    add_report(parser)
    parser.add_argument(
        "--fill",
        action="store_true",
        help="Write text, state, cost and more into the tables, where missing",
    )
    group = parser.add_argument_group("standard input")
    group.add_argument(
        "--live", action="store_true", help="Hear it as it comes; send each phrase at once"
    )
    group.add_argument(
        "--pause", metavar="DURATION", help="Silence that ends a phrase (default: 0.6s)"
    )
    group.add_argument(
        "--pcm",
        metavar="RATE[:CHANNELS[:FORMAT]]",
        help="Headerless sound, such as 48000:2:s24le (default: 16000)",
    )
    group.add_argument("--name", metavar="NAME", help="Name of the recording, for its outputs")
    group = parser.add_argument_group("standard output")
    group.add_argument(
        "--stdout",
        action="store_true",
        help="Print the text, or the format of --to, in place of writing files",
    )
    group.add_argument(
        "--no-keep",
        action="store_true",
        help="With --stdout: keep nothing on this machine but the cost; no follow-ups",
    )
    parser.add_argument(
        "--publish-at",
        metavar="URL",
        help="Write transcript tags for a feed with transcripts there",
    )


_WATCH_EXAMPLES = """\
examples:
  mantisreed watch inbox/ --engine brook --to srt,txt --move-done archive/ --log-file watch.log
  mantisreed watch inbox/ --until-idle 5s
"""


def add_watch(parser: argparse.ArgumentParser) -> None:
    """What `watch` takes."""
    parser.epilog = _WATCH_EXAMPLES
    parser.add_argument(
        "places",
        nargs="+",
        metavar="FOLDER_OR_ADDRESS",
        help="A folder, with all folders in it; a feed (https://...xml), or a storage (s3://...)",
    )
    add_options(parser, (*TRACK, *FOLDERS, *FEEDS))
    group = parser.add_argument_group("watching")
    group.add_argument(
        "--until-idle",
        metavar="DURATION",
        help="End when nothing comes or is under way for so long",
    )
    group.add_argument(
        "--settle-time",
        metavar="DURATION",
        help="A file is complete when nobody wrote to it for so long (default: 2s)",
    )
    group.add_argument(
        "--poll-interval",
        metavar="DURATION",
        help="Look at feeds and storages so often (default: 60s)",
    )
    group.add_argument("--move-done", metavar="DIR", help="Move finished recordings there")
    add_sending(parser)
    add_pieces(parser)
    _add_queue(parser)


def _add_queue(parser: argparse.ArgumentParser) -> None:
    """Whether workers send the recordings."""
    group = parser.add_argument_group("queue")
    group.add_argument(
        "--queue", action="store_true", help="Send nothing; let `mantisreed work` take them"
    )
    group.add_argument(
        "--priority",
        type=int,
        metavar="NUMBER",
        help="Queued recordings with higher numbers come first (default: 0)",
    )


_SUBMIT_EXAMPLES = """\
examples:
  mantisreed collect --wait $(mantisreed submit briefing.mp3)
  mantisreed submit archive/ --queue --engine dipper --priority -5
"""


def add_submit(parser: argparse.ArgumentParser) -> None:
    """What `submit` takes."""
    parser.epilog = _SUBMIT_EXAMPLES
    add_sources(parser)
    add_sending(parser)
    add_pieces(parser)
    _add_queue(parser)
    add_json(parser, "Jobs and states as JSON on stdout")


_WORK_EXAMPLES = """\
examples:
  mantisreed work --engines brook,dipper --max-recordings 40
  mantisreed work --until-idle 12s
"""


def add_work(parser: argparse.ArgumentParser) -> None:
    """What `work` takes."""
    parser.epilog = _WORK_EXAMPLES
    add_config(parser)
    parser.add_argument(
        "--engines",
        metavar="NAMES",
        help="Take only recordings for these engines, with commas between (default: all)",
    )
    parser.add_argument(
        "--max-recordings",
        type=at_least(1),
        metavar="NUMBER",
        help="Work on so many at once (default: as many as the engines take)",
    )
    parser.add_argument(
        "--until-idle",
        metavar="DURATION",
        help="End when nothing comes or is under way for so long",
    )
    parser.add_argument(
        "--drain",
        action="store_true",
        help="Ask the workers on this machine to end after their recordings",
    )


_COLLECT_EXAMPLES = """\
examples:
  mantisreed collect
  mantisreed collect --wait 3fa9 b1c0
"""


def add_collect(parser: argparse.ArgumentParser) -> None:
    """What `collect` takes."""
    parser.epilog = _COLLECT_EXAMPLES
    add_job_ids(parser, "all that are not finished")
    add_config(parser)
    parser.add_argument("--wait", action="store_true", help="Until everything is there")
    add_overwrite(parser)
    add_report(parser)


_RETRY_EXAMPLES = """\
examples:
  mantisreed retry
  mantisreed retry 3fa9 --report retried.csv
"""


def add_retry(parser: argparse.ArgumentParser) -> None:
    """What `retry` takes."""
    parser.epilog = _RETRY_EXAMPLES
    add_job_ids(parser, "all that failed, wait or are unconfirmed")
    add_config(parser)
    parser.add_argument(
        "--spend-limit",
        metavar="AMOUNT",
        help="Let each run cost this in all, in place of its own limit",
    )
    add_options(parser, AFRESH)
    add_report(parser)


_INSPECT_EXAMPLES = """\
examples:
  mantisreed inspect talk.mp3
  mantisreed inspect call.wav --plot call.png
"""


def add_inspect(parser: argparse.ArgumentParser) -> None:
    """What `inspect` takes."""
    parser.epilog = _INSPECT_EXAMPLES
    add_sources(parser)
    add_plot(parser, "Draw waveform, speech and loudness; for one recording")
    add_json(parser, "Everything as JSON on stdout")


_PLAN_EXAMPLES = """\
examples:
  mantisreed plan talk.mp3 --engine brook
  mantisreed plan recordings/ --engine brook --piece-length 10min --json
"""


def add_plan(parser: argparse.ArgumentParser) -> None:
    """What `plan` takes."""
    parser.epilog = _PLAN_EXAMPLES
    add_sources(parser)
    add_engine(parser)
    add_pieces(parser)
    add_plot(parser, "Draw the pieces over the waveform")
    add_json(parser, "The plan as JSON on stdout")
