"""`mantisreed standin`: serve the simulated engines on loopback."""

import argparse

from mantisreed.cli.console import Console

EXAMPLES = """\
examples:
  mantisreed standin --port 8127 --cards try/mantisreed.toml
  mantisreed standin --bank my-phrases --cards try/mantisreed.toml
"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """What `standin` takes."""
    parser.epilog = EXAMPLES
    parser.add_argument("--port", type=int, default=0, metavar="N", help="port on 127.0.0.1 (default: a free one)")
    parser.add_argument(
        "--bank", metavar="DIR", help="folder of audio files with a .txt each, to hear by (default: the bundled one)"
    )
    parser.add_argument("--cards", metavar="FILE", help="write the engine cards to FILE and the key beside it")


def run(console: Console, *, port: int = 0, bank: str | None = None, cards: str | None = None) -> int:
    """Serve until stopped. The first line on stdout says where, once requests are answered."""
    from pathlib import Path

    from mantisreed.standin import server
    from mantisreed.standin.bank import BUNDLED, load_bank
    from mantisreed.standin.hearing import Listener

    if cards:
        server.check_cards_file(Path(cards))
    with server.bound_socket(port) as waiting:
        listener = Listener(load_bank(Path(bank) if bank else BUNDLED))
        key, address = server.new_key(), server.address_of(waiting)
        if cards:
            server.write_cards(Path(cards), address, key, listener)
        else:
            console.note(f"the key is {key}; with --cards FILE the engine cards are written for you")
        server.serve(server.standins(listener, key), waiting, lambda: console.result(f"listening on {address}"))
    return 0
