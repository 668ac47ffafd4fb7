"""The board in a real browser, with two windows open."""

from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import msgspec
import pytest

from browser import BROWSER, Browser, wait_until
from conftest import Note
from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.life import SHOWN_STATES
from mantisreed.serving.orders import ENDED, Order, new_id
from mantisreed.standin.faults import FaultProfile
from mantisreed.standin.hearing import Listener
from serving.running import made, serving, standins

pytestmark = pytest.mark.skipif(BROWSER is None, reason="no browser is installed")


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Browser]:
    with Browser(tmp_path_factory.mktemp("browser")) as found:
        yield found


def choose(page: Any, *files: Path) -> None:
    """Choose files, as whoever sends them does."""
    expression = "document.getElementById('file')"
    node = page.call("Runtime.evaluate", expression=expression)["result"]["objectId"]
    page.call("DOM.setFileInputFiles", files=[str(file) for file in files], objectId=node)


def test_a_window_without_frames_shows_what_happens(
    browser: Browser, listener: Listener, note: Note, trusting: Path
) -> None:
    with standins(listener, trusting), serving(trusting) as service:
        page = browser.open(f"{service.address}/")
        page.wait_for("document.documentElement.dataset.ready === 'true'")
        # As it is for a window that goes behind others while it waits for its frame.
        page.value("window.requestAnimationFrame = () => 1")
        service.send(note.path)
        page.wait_for("document.querySelector('.job .state')?.textContent === 'done'")


def test_a_file_is_sent_and_both_windows_see_it_end(
    browser: Browser, listener: Listener, note: Note, trusting: Path
) -> None:
    with standins(listener, trusting, FaultProfile(queue=1.0)), serving(trusting) as service:
        one, other = browser.open(f"{service.address}/"), browser.open(f"{service.address}/")
        for page in (one, other):
            page.wait_for(
                "document.documentElement.dataset.ready === 'true' && $('engine').options.length "
                "> 3"
            )
        one.value("document.getElementById('engine').value = 'dipper'")
        choose(one, note.path)
        one.click("#start")
        other.wait_for(
            "[...document.querySelectorAll('.state')].some(state => state.textContent !== 'done')"
        )
        for page in (one, other):
            page.wait_for(
                "[...document.querySelectorAll('.state')].some(state => state.textContent === "
                "'done')",
                60.0,
            )
            assert page.value("document.querySelector('.job .name').textContent") == "note.wav"
            assert page.value("document.getElementById('sums').textContent").startswith(
                "1 job, 0 under way"
            )
        one.click(".doings button", 1)
        said = " ".join(spoken.phrase.text for spoken in note.composition.truth)
        assert set(said.split()) <= set(one.downloaded("note.txt").decode().split())
        # The review page is one click away, hears the recording, and saves into the workspace.
        address = one.value(
            "ask(`/jobs/${order[0]}/review`, {method: 'POST'}).then(answer => "
            "answer.json()).then(told => told.url)"
        )
        page = browser.open(service.address + address)
        page.wait_for("hasSound")
        page.value("keepEdit(0, state.rows[0].text + ' indeed')")
        page.value("saveServed()")
        page.wait_for("document.getElementById('message').textContent.startsWith('saved: ')")
        assert "indeed" in (trusting / "transcripts" / "note.txt").read_text()
        assert one.problems == other.problems == page.problems == []


def test_what_is_wrong_with_one_file_keeps_no_other_back_and_what_is_forgotten_goes(
    browser: Browser, listener: Listener, note: Note, trusting: Path
) -> None:
    wrong = trusting / "notes.wav"
    wrong.write_text("this is no recording")
    with standins(listener, trusting), serving(trusting) as service:
        page, other = browser.open(f"{service.address}/"), browser.open(f"{service.address}/")
        for window in (page, other):
            window.wait_for("document.documentElement.dataset.ready === 'true'")
        choose(page, wrong, note.path)
        page.click("#start")
        page.wait_for(
            "document.getElementById('message').textContent.endsWith('; 1 recording sent')"
        )
        assert page.value("document.getElementById('message').textContent").startswith(
            "notes.wav: "
        )
        for window in (page, other):
            window.wait_for(
                "[...document.querySelectorAll('.state')].some(one => one.textContent === 'done')",
                60.0,
            )
        job = page.value("order[0]")
        assert service.ask("DELETE", f"/jobs/{job}").status == 204
        for window in (page, other):
            window.wait_for("document.querySelectorAll('.job').length === 0")
            assert (
                window.value("document.querySelector('.empty').textContent") == "no jobs here yet"
            )
            assert window.problems == []


def test_an_answer_that_an_event_has_overtaken_changes_nothing(
    browser: Browser, listener: Listener, note: Note, trusting: Path
) -> None:
    with standins(listener, trusting), serving(trusting) as service:
        page = browser.open(f"{service.address}/")
        page.wait_for("document.documentElement.dataset.ready === 'true'")
        job = service.send(note.path).json["id"]
        service.ended(job)
        page.wait_for(f"jobs.get('{job}')?.state === 'done'")
        late = (
            "(async () => { const asks = ask, now = jobs.get(order[0]);"
            " ask = async () => ({ json: async () => {"
            "   taken('event: EVENT\\ndata: ' + JSON.stringify(now));"
            "   return { ...now, state: 'sending' }; } });"
            " await answered('', {}, itself); ask = asks; return jobs.get(now.id)?.state; })()"
        )
        assert page.value(late.replace("EVENT", "job")) == "done"
        assert page.value(late.replace("EVENT", "none")) == "sending"
        assert page.value(late.replace("EVENT", "gone")) is None


def test_a_failure_says_what_to_do_and_is_tried_again(
    browser: Browser, listener: Listener, note: Note, trusting: Path
) -> None:
    with standins(listener, trusting, FaultProfile(failing=1.0)), serving(trusting) as service:
        page = browser.open(f"{service.address}/")
        page.wait_for("document.documentElement.dataset.ready === 'true'")
        service.send(note.path, "/jobs?engine=dipper&name=lost.wav")
        page.wait_for("!!document.querySelector('.state.bad')", 60.0)
        assert page.value("document.querySelector('.why').textContent.length") > 10
        assert page.value("document.querySelector('.doings button').textContent") == "Retry"
        page.click(".doings button")
        page.wait_for("document.getElementById('message').textContent === 'lost.wav: retry'")


def keep(folder: Path, orders: list[Order]) -> None:
    """Have orders in the ledger of a folder, as if a service had taken them."""
    with closing(Ledger(folder / ".mantisreed")) as ledger, ledger.together():
        for order in orders:
            assert ledger.served.add(order.id, order.owner, None, msgspec.json.encode(order))


def test_axe_finds_nothing_and_thousands_of_jobs_are_only_drawn_where_they_are_seen(
    browser: Browser, listener: Listener, trusting: Path
) -> None:
    orders = []
    for number in range(3000):
        order = Order(
            id=f"{number:011x}{new_id()[11:]}",
            owner="",
            name=f"round {number}.wav",
            created=float(number),
        )
        order.state, order.finished, order.words, order.transcript = (
            "done",
            float(number),
            number,
            "gone.transcript.json",
        )
        orders.append(order)
    keep(trusting, orders)
    with standins(listener, trusting), serving(trusting) as service:
        page = browser.open(f"{service.address}/")
        page.wait_for("order.length === 3000", 60.0)
        page.value(
            "globalThis.rowsFollowEachOther = () => {"
            " const boxes = [...document.querySelectorAll('.job')].map(row => "
            "row.getBoundingClientRect());"
            " boxes.sort((one, other) => one.top - other.top);"
            " return boxes.length > 1"
            " && boxes.every((box, at) => !at || Math.abs(boxes[at - 1].bottom - box.top) < 2); "
            "}; true"
        )
        for width, is_dark in ((1280, False), (700, False), (400, True)):
            page.view(width, 800, is_dark=is_dark)
            page.wait_for("rowsFollowEachOther()")
            page.wait_for("document.querySelectorAll('.job').length > 0")
            assert page.value("document.querySelectorAll('.job').length") < 40
            assert (
                page.faults() == [] and page.value("document.documentElement.scrollWidth") <= width
            )
        assert page.value("document.querySelector('.job .name').textContent") == "round 2999.wav"
        page.value("document.getElementById('scroller').scrollTop = 1e9")
        page.wait_for(
            "[...document.querySelectorAll('.name')].some(name => name.textContent === 'round "
            "0.wav')"
        )
        page.value("$('search').value = 'round 77.'; $('search').dispatchEvent(new Event('input'))")
        page.wait_for("document.querySelectorAll('.job').length === 1")
        assert page.problems == []


def test_a_board_asks_for_the_token_that_it_needs(
    browser: Browser, listener: Listener, trusting: Path
) -> None:
    with standins(listener, trusting):
        token = made(trusting, "hut")
        with serving(trusting) as service:
            page = browser.open(f"{service.address}/")
            page.wait_for("document.getElementById('token-dialog').open")
            assert page.faults() == []
            page.value("document.getElementById('token').focus()")
            page.type(token)
            page.press("Enter")
            page.wait_for("document.documentElement.dataset.ready === 'true'")
            wait_until(lambda: page.value("document.querySelector('#engine').options.length") > 3)


@pytest.mark.parametrize("width", [1280, 1000, 800, 360])
def test_no_button_leaves_its_row_whatever_the_state(
    browser: Browser, listener: Listener, trusting: Path, width: int
) -> None:
    orders = []
    for number, state in enumerate(SHOWN_STATES):
        order = Order(
            id=f"{number:011x}{new_id()[11:]}",
            owner="",
            name=f"the round along the northern wall in the evening, number {number}.wav",
            state=state,
            finished=1.0 if state in ENDED else None,
            error="the tide table is missing, and nobody at the hut knows why",
            words=12_000,
            duration=40_000.0,
            cost=0.024,
            currency="credits",
        )
        orders.append(order)
    keep(trusting, orders)
    outside = (
        "[...document.querySelectorAll('.job button, .job .state, .job .name')].filter(one => {"
        " const row = one.closest('.job').getBoundingClientRect(),"
        " box = one.getBoundingClientRect();"
        " return box.right > row.right || box.bottom > row.bottom || box.top < row.top;"
        "}).map(one => one.textContent)"
    )
    with standins(listener, trusting), serving(trusting) as service:
        page = browser.open(f"{service.address}/")
        page.view(width, 2000)
        page.wait_for(f"document.querySelectorAll('.job').length === {len(SHOWN_STATES)}")
        page.wait_for("!isDrawing")
        assert page.value(outside) == []
        assert page.value("document.documentElement.scrollWidth") <= width
