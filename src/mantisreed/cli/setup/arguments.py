"""Arguments of the commands in this folder; what they do is in a module each."""

import argparse

from mantisreed.cli.arguments import add_config, add_engine, add_json, at_least

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Collection, Mapping

LISTEN = "127.0.0.1:8442"
"""Where the service listens unless the user says otherwise."""

_ENGINES_EXAMPLES = """\
examples:
  mantisreed engines try brook note.wav --language en
  mantisreed engines learn request.txt --add brook
"""

_ACTIONS = {
    "list": (
        "List engine cards with their formats and prices, and missing secrets",
        "examples:\n  mantisreed engines list\n  mantisreed engines list --json\n",
    ),
    "show": (
        "Print a whole card as TOML, with its profile applied",
        "examples:\n  mantisreed engines show brook\n  mantisreed engines show brook:quick "
        "--json\n",
    ),
    "try": (
        "Send a short recording; show each request, each answer and the words found",
        "examples:\n  mantisreed engines try brook\n  mantisreed engines try brook note.wav "
        "--dry-run\n"
        "  mantisreed engines try brook --answer saved-reply.json\n",
    ),
    "check": (
        "Check cards without sending anything; list all problems",
        "examples:\n  mantisreed engines check\n  mantisreed engines check brook --json\n",
    ),
    "learn": (
        "Propose a card from a curl command, an OpenAPI document or a sample reply",
        "examples:\n  mantisreed engines learn request.txt --add brook\n"
        "  mantisreed engines learn openapi.yaml --operation transcribe\n"
        "  mantisreed engines learn saved-reply.json --add brook --length 1:30\n",
    ),
}


def add_engines(parser: argparse.ArgumentParser) -> list[argparse.ArgumentParser]:
    """What `engines` takes; gives the parsers of its actions."""
    parser.epilog = _ENGINES_EXAMPLES
    add_config(parser)
    add_json(parser, "The list as JSON on stdout")
    made = _actions_of(parser, _ACTIONS, ("list", "show", "check"))
    made["show"].add_argument("name", metavar="NAME", help="The card, or NAME:PROFILE")
    made["check"].add_argument("name", metavar="NAME", nargs="?", help="The card (default: all)")
    _add_try_arguments(made["try"])
    _add_learn_arguments(made["learn"])
    return list(made.values())


def _actions_of(
    parser: argparse.ArgumentParser,
    known: "Mapping[str, tuple[str, str]]",
    with_json: "Collection[str]",
) -> dict[str, argparse.ArgumentParser]:
    """The actions of a command, each with a help of its own."""
    actions = parser.add_subparsers(dest="action", metavar="ACTION", title="actions")
    made = {}
    for name, (summary, examples) in known.items():
        made[name] = actions.add_parser(
            name,
            help=summary,
            description=summary,
            epilog=examples,
            formatter_class=parser.formatter_class,
        )
        add_config(made[name], default=argparse.SUPPRESS)
        if name in with_json:
            made[name].add_argument(
                # It stands before or behind the action; a default here would undo the one before.
                "--json",
                action="store_true",
                dest="as_json",
                default=argparse.SUPPRESS,
                help="JSON on stdout",
            )
    return made


def _add_try_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="The card, or NAME:PROFILE")
    parser.add_argument(
        "clip", nargs="?", metavar="FILE", help="A short recording (default: a bundled one)"
    )
    parser.add_argument(
        "--dry-run", action="store_true", dest="dry_run", help="Show the requests; send nothing"
    )
    parser.add_argument(
        "--answer", metavar="FILE", help="Read this saved answer as the reply; send nothing"
    )
    parser.add_argument("--language", metavar="TAG", help="Language spoken")
    parser.add_argument("--translate-to", metavar="TAG", help="Language to answer in")
    parser.add_argument(
        "--hint", action="append", dest="hints", metavar="WORD", help="A word to expect"
    )


def _add_learn_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "sample",
        metavar="SAMPLE",
        help="A file, - for standard input, or a curl command as one argument",
    )
    parser.add_argument(
        "--length", metavar="DURATION", help="Length of the sound that a sample reply answers"
    )
    parser.add_argument("--operation", metavar="ID", help="Which operation of an OpenAPI document")
    parser.add_argument(
        "--add", metavar="NAME", help="Write the card into the settings file under this name"
    )


_SERVICES_EXAMPLES = """\
examples:
  mantisreed services
  mantisreed services --offline --json
"""


def add_services(parser: argparse.ArgumentParser) -> None:
    """What `services` takes."""
    parser.epilog = _SERVICES_EXAMPLES
    add_config(parser)
    parser.add_argument("--offline", action="store_true", help="Ask nobody; show only the cards")
    add_json(parser, "JSON on stdout")


_TRUST_EXAMPLES = """\
examples:
  mantisreed trust
  mantisreed trust downloads/marsh/mantisreed.toml --revoke
"""


def add_trust(parser: argparse.ArgumentParser) -> None:
    """What `trust` takes."""
    parser.epilog = _TRUST_EXAMPLES
    parser.add_argument(
        "settings",
        nargs="?",
        metavar="FILE",
        help="Settings file, or its folder (default: the one here or above)",
    )
    action = parser.add_mutually_exclusive_group()
    action.add_argument("--revoke", action="store_true", help="Trust it no longer")
    action.add_argument(
        "--list", action="store_true", dest="is_list", help="List the trusted settings"
    )
    add_json(parser, "Results as JSON on stdout")


_DEMO_EXAMPLES = """\
examples:
  mantisreed demo
  mantisreed demo --into /tmp/marsh
"""


def add_demo(parser: argparse.ArgumentParser) -> None:
    """What `demo` takes."""
    parser.epilog = _DEMO_EXAMPLES
    parser.add_argument(
        "--into",
        default="mantisreed-demo",
        metavar="DIR",
        help="Folder to make (default: %(default)s)",
    )
    add_json(parser, "Results as JSON on stdout")


_STANDIN_EXAMPLES = """\
examples:
  mantisreed standin --port 8127 --cards try/mantisreed.toml
  mantisreed standin --faults 0.3 --seed 7 --pace 15/60s --cards try/mantisreed.toml
"""


def add_standin(parser: argparse.ArgumentParser) -> None:
    """What `standin` takes."""
    parser.epilog = _STANDIN_EXAMPLES
    parser.add_argument(
        "--port", type=int, default=0, metavar="N", help="Port on 127.0.0.1 (default: a free one)"
    )
    parser.add_argument(
        "--bank",
        metavar="DIR",
        help="Folder of audio files with a .txt each, to hear by (default: the bundled one)",
    )
    parser.add_argument(
        "--mailbox", metavar="DIR", help="Serve a mail box too, which keeps messages in DIR"
    )
    parser.add_argument(
        "--cards", metavar="FILE", help="Write the engine cards to FILE and the key beside it"
    )

    profile = parser.add_argument_group("what goes wrong, to try out how it is dealt with")
    profile.add_argument(
        "--seed",
        type=int,
        default=0,
        metavar="N",
        help="The same one makes the same things go wrong",
    )
    profile.add_argument(
        "--faults", type=float, default=0.0, metavar="SHARE", help="Share of requests with a fault"
    )
    profile.add_argument(
        "--hang", metavar="DURATION", help="How long an answer hangs that hangs (default: 30s)"
    )
    profile.add_argument(
        "--pace", metavar="N/DURATION", help="Answer 429 to more requests than this, such as 15/60s"
    )
    profile.add_argument(
        "--retry-after",
        choices=("seconds", "date", "none"),
        default="seconds",
        help="How a 429 says when to come back",
    )
    profile.add_argument("--queue", metavar="DURATION", help="How long dipper's jobs take")
    profile.add_argument(
        "--failing", type=float, default=0.0, metavar="SHARE", help="Share of its jobs that fail"
    )
    profile.add_argument(
        "--losing",
        type=float,
        default=0.0,
        metavar="SHARE",
        help="Share of its jobs that it forgets",
    )
    profile.add_argument(
        "--calls",
        choices=("once", "twice", "early", "never"),
        default="once",
        help="How it calls back; early is before it has answered",
    )
    profile.add_argument(
        "--confusion", type=float, default=0.0, metavar="SHARE", help="Share of words misheard"
    )
    profile.add_argument(
        "--habit",
        action="append",
        default=[],
        metavar="[ENGINE:]HABIT=SHARE",
        help="Make text up over silence, loop, drop phrases and so on in this share of them, such "
        "as loop=0.1 or "
        "brook:silence=0.3; `GET /planted` tells where (can be given again)",
    )


_SERVE_EXAMPLES = """\
examples:
  mantisreed serve --listen 127.0.0.1:8442
  mantisreed serve --listen 0.0.0.0:8442 --allow recordings/
"""


def add_serve(parser: argparse.ArgumentParser) -> None:
    """What `serve` takes."""
    parser.epilog = _SERVE_EXAMPLES
    parser.add_argument(
        "--listen",
        metavar="HOST:PORT",
        help=f"Where to listen (default: {LISTEN}; elsewhere it needs a token)",
    )
    parser.add_argument(
        "--callbacks",
        action="store_true",
        help="Only take the calls of engines, and write the outputs of their jobs",
    )
    parser.add_argument(
        "--queue",
        action="store_true",
        help="Let workers (`mantisreed work`) do the jobs, on any machine",
    )
    parser.add_argument(
        "--allow",
        action="append",
        default=[],
        metavar="DIR",
        help="Let jobs name files in this folder by their paths",
    )
    parser.add_argument(
        "--allow-private-links",
        action="store_true",
        help="Follow links and calls to addresses of this network",
    )
    parser.add_argument(
        "--cors", action="append", default=[], metavar="ORIGIN", help="Let pages from there use it"
    )
    parser.add_argument(
        "--proxy",
        action="append",
        default=[],
        metavar="ADDRESS",
        help="Trust this proxy (or network) for client addresses and paths",
    )
    parser.add_argument(
        "--root-path", default="", metavar="PATH", help="The path under which a proxy offers it"
    )
    parser.add_argument("--max-size", metavar="SIZE", help="Of a recording (default: 2 GiB)")
    parser.add_argument("--max-length", metavar="DURATION", help="Of a recording (default: any)")
    parser.add_argument(
        "--max-stored",
        metavar="SIZE",
        help="Of all recordings and uploads of one token (default: any)",
    )
    parser.add_argument(
        # What is on its way has been paid for.
        "--shutdown-timeout",
        metavar="DURATION",
        help="Time for running requests at the end (default: 30s)",
    )
    add_engine(parser)


_TOKENS_EXAMPLES = """\
examples:
  mantisreed tokens create hut --scopes submit,read --spend-limit 5
  mantisreed tokens revoke hut
"""

_TOKEN_ACTIONS = {
    "create": (
        "Create a token for the HTTP service, and print it this once",
        "examples:\n  mantisreed tokens create hut\n  mantisreed tokens create hut "
        "--requests-per-minute 120 --spend-limit 5\n",
    ),
    "list": (
        "List tokens with their scopes and limits",
        "examples:\n  mantisreed tokens list\n  mantisreed tokens list --json\n",
    ),
    "revoke": (
        "Let nobody in with a token any more",
        "examples:\n  mantisreed tokens revoke hut\n",
    ),
}


def add_tokens(parser: argparse.ArgumentParser) -> list[argparse.ArgumentParser]:
    """What `tokens` takes; gives the parsers of its actions."""
    parser.epilog = _TOKENS_EXAMPLES
    add_config(parser)
    add_json(parser, "The list as JSON on stdout")
    made = _actions_of(parser, _TOKEN_ACTIONS, ("create", "list"))
    for name in ("create", "revoke"):
        made[name].add_argument("name", metavar="NAME", help="Whose it is")
    create = made["create"]
    create.add_argument(
        "--scopes",
        default="submit,read",
        metavar="SCOPES",
        help="Rights: submit, read and admin (default: submit,read)",
    )
    create.add_argument(
        "--spend-limit", metavar="AMOUNT", help="Cost of all its jobs (default: any)"
    )
    create.add_argument(
        "--requests-per-minute",
        type=at_least(1),
        metavar="N",
        help="So many requests to the service (default: any)",
    )
    create.add_argument("--max-size", metavar="SIZE", help="Of a recording (default: 2 GiB)")
    create.add_argument("--max-length", metavar="DURATION", help="Of a recording (default: any)")
    create.add_argument(
        "--max-stored", metavar="SIZE", help="Of all its recordings and uploads (default: any)"
    )
    return list(made.values())


_INIT_EXAMPLES = """\
examples:
  mantisreed init
  mantisreed init --engine brook --url https://brook.marsh.example/listen --key env:BROOK_KEY
"""


def add_init(parser: argparse.ArgumentParser) -> None:
    """What `init` takes."""
    parser.epilog = _INIT_EXAMPLES
    parser.add_argument(
        "--engine", metavar="NAME", help="Name of the engine (default: asked for, else my-engine)"
    )
    parser.add_argument("--url", metavar="URL", help="Address of the engine (default: asked for)")
    parser.add_argument(
        "--key",
        metavar="PLACE",
        help="Where the API key is: env:NAME, file:PATH or keyring:NAME (default: asked for)",
    )


_DOCTOR_EXAMPLES = """\
examples:
  mantisreed doctor
  mantisreed doctor --json
"""


def add_doctor(parser: argparse.ArgumentParser) -> None:
    """What `doctor` takes."""
    parser.epilog = _DOCTOR_EXAMPLES
    add_config(parser)
    add_json(parser, "Every check as JSON on stdout")


_COMPLETION_EXAMPLES = """\
examples:
  eval "$(mantisreed completion bash)"
  mantisreed completion fish > ~/.config/fish/completions/mantisreed.fish
"""


def add_completion(parser: argparse.ArgumentParser) -> None:
    """What `completion` takes."""
    parser.epilog = _COMPLETION_EXAMPLES
    parser.add_argument(
        "shell",
        nargs="?",
        metavar="SHELL",
        help="bash, zsh, fish or powershell (default: the one of the variable SHELL)",
    )


_DOCS_EXAMPLES = """\
examples:
  mantisreed docs
  mantisreed docs engine-cards
"""


def add_docs(parser: argparse.ArgumentParser) -> None:
    """What `docs` takes."""
    parser.epilog = _DOCS_EXAMPLES
    parser.add_argument(
        "topic", nargs="?", metavar="TOPIC", help="Page to print (default: list all pages)"
    )
