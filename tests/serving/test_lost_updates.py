"""Two who change the same thing at once: neither loses anything without being told."""

import socket
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor

import pytest

from browser import BROWSER, Browser, Page
from conftest import Note
from serving.running import Running

in_browser = pytest.mark.skipif(BROWSER is None, reason="no browser is installed")


@pytest.fixture(scope="module")
def browser(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Browser]:
    with Browser(tmp_path_factory.mktemp("browser")) as found:
        yield found


def done(service: Running, note: Note, name: str) -> str:
    job = service.send(note.path, f"/jobs?name={name}").json["id"]
    service.ended(job)
    assert isinstance(job, str)
    return job


def test_a_correction_replaces_only_the_version_that_it_began_from(
    service: Running, note: Note
) -> None:
    job = done(service, note, "versions.wav")
    path = f"/jobs/{job}/outputs/json"
    first = service.ask("GET", path)
    version, document = first.headers["etag"], first.json
    unsaid = service.ask("PUT", f"/jobs/{job}/transcript", first.body)
    assert unsaid.status == 428 and "If-Match" in unsaid.json["advice"]
    assert service.ask("GET", path, If_None_Match=version).status == 304
    assert (
        service.ask("GET", f"/jobs/{job}/outputs/srt", If_None_Match=f"W/{version}").status == 304
    )
    document["notes"] = [*document["notes"], "the first one"]
    saved = service.save(job, document, version)
    assert saved.status == 200 and saved.headers["etag"] != version
    document["notes"][-1] = "the second one"
    refused = service.save(job, document, version)
    assert refused.status == 412 and refused.headers["etag"] == saved.headers["etag"]
    assert service.ask("GET", path).json["notes"][-1] == "the first one"
    assert service.ask("GET", path).headers["etag"] == saved.headers["etag"]


def test_of_several_who_save_at_once_one_does_and_the_others_are_told(
    service: Running, note: Note
) -> None:
    job = done(service, note, "at-once.wav")
    first = service.ask("GET", f"/jobs/{job}/outputs/json")

    def save(number: int) -> int:
        document = {**first.json, "notes": [f"by {number}"]}
        return service.save(job, document, first.headers["etag"]).status

    with ThreadPoolExecutor(6) as pool:
        statuses = list(pool.map(save, range(6)))
    assert sorted(statuses) == [200, 412, 412, 412, 412, 412]
    winner = statuses.index(200)
    assert service.ask("GET", f"/jobs/{job}/outputs/json").json["notes"] == [f"by {winner}"]


def test_of_several_who_cancel_retry_or_forget_at_once_each_is_told_the_truth(
    service: Running, note: Note
) -> None:
    job = service.send(note.path, "/jobs?language=en&afresh=true&spend_limit=0.0000001").json["id"]
    assert service.ended(job)["state"] == "failed"
    with ThreadPoolExecutor(5) as pool:
        tried = list(pool.map(lambda _: service.ask("POST", f"/jobs/{job}/retry").status, range(5)))
    assert tried.count(202) >= 1 and set(tried) <= {202, 409}
    service.ended(job)
    with ThreadPoolExecutor(5) as pool:
        gone = list(pool.map(lambda _: service.ask("DELETE", f"/jobs/{job}").status, range(5)))
    assert gone.count(204) == 1 and set(gone) == {204, 404}


def test_an_upload_that_somebody_is_at_is_given_up_by_nobody_else(
    service: Running, note: Note
) -> None:
    begun = service.ask("POST", "/uploads?name=talk.wav", b"RIFF", Upload_Complete="?0")
    at = begun.headers["location"]
    host, port = service.address.removeprefix("http://").split(":")
    with socket.create_connection((host, int(port))) as slow:
        head = f"PATCH {at} HTTP/1.1\r\nHost: {host}:{port}\r\nUpload-Offset: 4\r\n"
        slow.sendall(f"{head}Content-Length: 8\r\n\r\nhalf".encode())
        time.sleep(0.3)
        assert service.ask("DELETE", at).status == 409
        assert service.ask("PATCH", at, b"more", Upload_Offset="4").status == 409
        slow.sendall(b"done")
        assert b" 204 " in slow.recv(1000).splitlines()[0]
    assert service.ask("HEAD", at).headers["upload-offset"] == "12"
    assert service.ask("DELETE", at).status == 204


# The review page
# ----------------------------------------------------------------------


def opened(browser: Browser, service: Running, job: str) -> Page:
    address = service.ask("POST", f"/jobs/{job}/review").json["url"]
    page = browser.open(service.address + address)
    page.wait_for("document.documentElement?.dataset.ready === 'true'")
    return page


def text_of(service: Running, job: str) -> str:
    return service.ask("GET", f"/jobs/{job}/text").body.decode()


def loaded_again(page: Page) -> None:
    page.value("document.documentElement.dataset.ready = 'no'")
    page.call("Page.reload")
    page.wait_for("document.documentElement?.dataset.ready === 'true'", 60.0)


def message(page: Page) -> str:
    return str(page.value("document.getElementById('message').textContent"))


@in_browser
def test_two_windows_that_correct_different_cues_lose_neither(
    browser: Browser, service: Running, note: Note
) -> None:
    job = done(service, note, "two-windows.wav")
    one, other = opened(browser, service, job), opened(browser, service, job)
    one.value("keepEdit(0, 'The first window says so')")
    other.value("keepEdit(state.rows.length - 1, 'and the second one too.')")
    one.value("saveServed()")
    one.wait_for("document.getElementById('message').textContent.startsWith('saved')")
    other.value("document.documentElement.dataset.ready = 'no'; saveServed()")
    other.wait_for("document.documentElement?.dataset.ready === 'true'", 60.0)
    assert "laid over theirs" in message(other) and "second one" not in text_of(service, job)
    other.value("saveServed()")
    other.wait_for("document.getElementById('message').textContent.startsWith('saved')")
    said = text_of(service, job)
    assert "The first window says so" in said and "and the second one too." in said
    assert one.problems == other.problems == []


@in_browser
@pytest.mark.parametrize("chosen", ["mine", "theirs"])
def test_two_windows_that_correct_the_same_cue_are_shown_both(
    browser: Browser, service: Running, note: Note, chosen: str
) -> None:
    job = done(service, note, f"conflict-{chosen}.wav")
    one, other = opened(browser, service, job), opened(browser, service, job)
    one.value("keepEdit(0, 'It was a redshank')")
    other.value("keepEdit(0, 'It was a dunlin')")
    one.value("saveServed()")
    one.wait_for("document.getElementById('message').textContent.startsWith('saved')")
    other.value("document.documentElement.dataset.ready = 'no'; saveServed()")
    other.wait_for("document.querySelector('#conflict-dialog[open]') !== null", 60.0)
    shown = str(other.value("document.getElementById('conflicts').textContent"))
    assert "It was a redshank" in shown and "It was a dunlin" in shown
    other.press("Escape")
    time.sleep(0.3)
    other.wait_for("document.querySelector('#conflict-dialog[open]') !== null")
    other.click(f"#conflicts [value={chosen}]")
    assert other.faults() == []
    other.click("#conflict-done")
    other.value("saveServed()")
    other.wait_for("document.getElementById('message').textContent.startsWith('saved')")
    holds, left = ("dunlin", "redshank") if chosen == "mine" else ("redshank", "dunlin")
    assert f"It was a {holds}" in text_of(service, job) and left not in text_of(service, job)


@in_browser
def test_corrections_that_were_not_saved_survive_a_reload(
    browser: Browser, service: Running, note: Note
) -> None:
    job = done(service, note, "reload.wav")
    page = opened(browser, service, job)
    page.value("keepEdit(0, 'Kept by the browser')")
    page.value("choose(1, 0); setSpeaker('The warden', false)")
    rows = page.value("state.rows.length")
    loaded_again(page)
    assert page.value("state.rows[0].text") == "Kept by the browser"
    assert page.value("state.rows[1].speaker") == "The warden"
    assert page.value("state.rows.length") == rows and "here again" in message(page)
    page.value("undo()")
    assert page.value("state.rows[0].text") != "Kept by the browser"
    page.value("redo()")
    # Text that is being typed when the window goes is kept too.
    page.value("beginEdit(0); document.querySelector('textarea').value = 'Still being typed'")
    loaded_again(page)
    assert page.value("state.rows[0].text") == "Still being typed"
    page.value("saveServed()")
    page.wait_for("document.getElementById('message').textContent.startsWith('saved')")
    assert "Still being typed" in text_of(service, job)
    loaded_again(page)
    assert "here again" not in message(page) and page.problems == []


@in_browser
def test_what_a_window_that_is_gone_has_kept_is_found_by_the_next_one(
    browser: Browser, service: Running, note: Note
) -> None:
    job = done(service, note, "gone.wav")
    page = opened(browser, service, job)
    page.value("keepEdit(0, 'From a window that crashed'); keep()")
    # One that is still open keeps its own corrections to itself.
    beside = opened(browser, service, job)
    assert beside.value("state.rows[0].text") != "From a window that crashed"
    page.value("localStorage.setItem(`${placeOfWindow()} seen`, '1'); keep = () => {}")
    page.call("Page.navigate", url="about:blank")
    after = opened(browser, service, job)
    assert after.value("state.rows[0].text") == "From a window that crashed"


@in_browser
def test_any_corrections_come_back_as_they_were(
    browser: Browser, service: Running, note: Note
) -> None:
    job = done(service, note, "any.wav")
    page = opened(browser, service, job)
    page.value("choose(1, 2); split(); choose(0, 0); join()")
    page.value("keepEdit(2, ''); keepEdit(state.rows.length - 1, 'The very end.')")
    page.value("state.doubts = state.doubts.slice()")
    before = page.value("JSON.stringify(savedPassages())")
    loaded_again(page)
    assert page.value("JSON.stringify(savedPassages())") == before
