"""`mantisreed demo`: made-up recordings, a stand-in engine, and the real pipeline between them."""

import email
import shlex
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from email.policy import default
from pathlib import Path

from mantisreed.audio.workers import kept_processes
from mantisreed.cli.console import Console
from mantisreed.cli.outcomes import problems_of_follow_ups
from mantisreed.cli.quality import doubts, review
from mantisreed.cli.setup.trust import trust_own
from mantisreed.cli.transcribing.run import run as run_recordings
from mantisreed.cli.transcribing.run_arguments import Arguments as RunArguments
from mantisreed.errors import OutputError
from mantisreed.files import printable
from mantisreed.pipeline.incoming.watching import WatchHooks, WatchOptions, watch
from mantisreed.pipeline.outcomes import Outcome
from mantisreed.standin import server
from mantisreed.standin.bank import Phrase, load_bank
from mantisreed.standin.demo import (
    FLOW,
    NIGHT_HABITS,
    NIGHT_WATCH,
    demo_compositions,
    flow_compositions,
    night_composition,
    write_recordings,
)
from mantisreed.standin.engines.brook import NAME
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Listener
from mantisreed.standin.mailbox import mailbox
from mantisreed.standin.server import may_write_cards
from mantisreed.state import make_folder
from mantisreed.workspace import open_workspace


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `demo` is asked for; its arguments tell the same."""

    into: str = "mantisreed-demo"
    as_json: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Make the recordings, start the engine, run the pipeline, and say how to repeat it by hand."""
    with kept_processes():
        return _shown(console, asked)


def _shown(console: Console, asked: Arguments) -> int:
    folder = Path(asked.into)
    cards, recordings = folder / "mantisreed.toml", folder / "recordings"
    _make_folders(folder, recordings, cards)
    console.note("reading the phrase bank ...")
    phrases = load_bank()
    compositions = demo_compositions(phrases)
    key = server.new_key()
    with ThreadPoolExecutor() as pool:
        # Beside the composing: both take seconds.
        ear = pool.submit(Listener, phrases)
        for number, name in enumerate(write_recordings(compositions, recordings), 1):
            console.note(f"composed {number} of {len(compositions)}: {name}")
    listener = ear.result()
    with (
        server.bound_socket(0) as waiting,
        server.serving(server.standins(listener, key), waiting) as address,
    ):
        server.write_cards(cards, address, key, listener)
        trust_own(cards)
        console.note(
            f"the stand-in engine {NAME} listens on {address}; sending it the recordings ..."
        )
        code = run_recordings(
            console,
            RunArguments(
                sources=[str(recordings)],
                as_json=asked.as_json,
                options={"config": str(cards), "engine": NAME},
            ),
        )

        def write_cards(file: Path, extra: str) -> None:
            server.write_cards(file, address, key, listener, extra)
            trust_own(file)

        flow = _flow(console, folder / "flow", phrases, write_cards)
    page = _doubts(console, folder / "doubts", phrases, listener, key)
    if not asked.as_json:
        again = ["mantisreed", "run", str(recordings), "--config", str(cards), "--engine", NAME]
        console.result(f"\nThis was done by\n  {shlex.join(again)}")
        console.result("To repeat it by hand, first start the engine again, in another terminal:")
        console.result(f"  {shlex.join(['mantisreed', 'standin', '--cards', str(cards)])}")
        console.result(
            f"The watched folder is {flow}: its mantisreed.toml says what happened after each "
            "transcript"
        )
        console.result(f"To hear, read and correct the night watch, open {page} in a browser")
        serve = shlex.join(["mantisreed", "serve", "--config", str(cards), "--engine", NAME])
        console.result(
            f"To offer all of it as a service with a board, start the engine again, then\n  {serve}"
        )
    return code


def _flow(
    console: Console,
    folder: Path,
    phrases: Sequence[Phrase],
    write_cards: Callable[[Path, str], None],
) -> Path:
    """A watched folder: German subtitles, tone and digest, a row in a table and a mail for each
    recording.
    """
    inbox, settings = folder / "inbox", folder / "mantisreed.toml"
    for needed in (inbox, folder):
        needed.mkdir(parents=True, exist_ok=True)
    with mailbox(folder / "mailbox") as (server, box):
        write_cards(settings, FLOW.format(server=server))
        console.note(
            f"\nwatching {printable(inbox)}; recordings come in, and this happens with each of "
            "them ..."
        )
        list(write_recordings(flow_compositions(phrases), inbox))
        before = len(box.messages)

        def tell(outcome: Outcome) -> None:
            console.note(f"{outcome.recording.name}: {outcome.state}, then {_followed(outcome)}")
            for error in problems_of_follow_ups(outcome):
                console.problem(error)

        # Its recordings are whole when they come, so that nobody need wait for them to settle.
        watching = WatchOptions(until_idle=0.25, settle_time=0.2)
        watch([inbox], open_workspace(settings), None, watching, WatchHooks(on_outcome=tell))
        mails = [email.message_from_bytes(one, policy=default) for one in box.messages[before:]]
    for mail in mails:
        files = ", ".join(str(part.get_filename()) for part in mail.iter_attachments())
        console.note(f"a mail to {mail['To']}: {mail['Subject']} ({files})")
    console.note(
        f"the table is {printable(folder / 'notes.csv')}, the mail box {printable(box.folder)}"
    )
    return folder


def _doubts(
    console: Console, folder: Path, phrases: Sequence[Phrase], listener: Listener, key: str
) -> Path:
    """An engine that makes text up, loops and drops sentences; a second opinion; and the page to
    review it on.
    """
    folder.mkdir(parents=True, exist_ok=True)
    cards, recording = folder / "mantisreed.toml", folder / NIGHT_WATCH
    night_composition(phrases).write(recording)
    transcript = folder / "first" / f"{recording.stem}.transcript.json"
    profile = FaultProfile(habits={"brook": NIGHT_HABITS})
    console.note(
        f"\n{printable(recording)} goes to an engine that makes text up, loops and drops "
        "sentences ..."
    )
    with (
        server.bound_socket(0) as waiting,
        server.serving(server.standins(listener, key, profile), waiting) as address,
    ):
        server.write_cards(cards, address, key, listener)
        trust_own(cards)

        def heard(into: Path, to: str, second: str | None = None) -> None:
            options = {
                "config": str(cards),
                "engine": "brook",
                "language": "en",
                "to": to,
                "into": str(into),
                "overwrite": True,
                "second_opinion": second,
            }
            run_recordings(console, RunArguments(sources=[str(recording)], options=options))

        heard(transcript.parent, "json,md")
        console.note("")
        doubts.run(console, doubts.Arguments(transcript=str(transcript)))
        console.note("\na second engine hears the doubtful passages, and only these ...")
        heard(folder / "second", "json,srt", "heron")
    review.run(
        console,
        review.Arguments(
            wanted=str(transcript), recording=str(recording), config=str(cards), overwrite=True
        ),
    )
    return transcript.with_name(f"{recording.stem}.review.html")


def _followed(outcome: Outcome) -> str:
    return (
        ", ".join(f"{one.name} {one.state}" for one in outcome.follow_ups)
        or "nothing, as it was all done before"
    )


def _make_folders(folder: Path, recordings: Path, cards: Path) -> None:
    # A demo may be run again in its own folder, and in no other.
    ours = cards.exists() and may_write_cards(cards)
    if folder.exists() and not ours and (not folder.is_dir() or any(folder.iterdir())):
        raise OutputError(
            "exists, and is not a folder of the demo's making",
            where=printable(folder),
            advice="name another with --into",
        )
    make_folder(recordings)
