"""`mantisreed doctor`: whether everything that a run needs is there."""

from dataclasses import asdict, dataclass

from rich.text import Text

from mantisreed.cli.console import Console, plain_table
from mantisreed.units import count_of
from mantisreed.workbench.health import checks


@dataclass(frozen=True, kw_only=True)
class Arguments:
    """What `doctor` is asked for; its arguments tell the same."""

    config: str | None = None
    as_json: bool = False


def run(console: Console, asked: Arguments) -> int:
    """Look at everything and say what to do; 1 when something is wrong."""
    found = list(checks(asked.config))
    problems = [check for check in found if check.verdict == "problem"]
    if asked.as_json:
        console.document({"checks": [asdict(check) for check in found]})
        return 1 if problems else 0
    table = plain_table()
    for heading in ("check", "state"):
        table.add_column(heading)
    table.add_column("found", overflow="fold")
    for check in found:
        table.add_row(check.what, check.verdict, Text(check.told))
    console.table(table)
    for check in found:
        # Behind the table, where there is room for a sentence.
        if check.advice and check.verdict != "ok":
            console.result(f"{check.what}: {check.advice}")
    if problems:
        console.result(f"{count_of(len(problems), 'problem')} found")
        return 1
    console.result("everything is ready: mantisreed run RECORDING")
    return 0
