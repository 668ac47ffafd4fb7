"""The examples of the manual on the service work as they stand there."""

import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from conftest import Note
from mantisreed.standin.hearing import Listener
from serving.running import serving, standins

MANUAL = (Path(__file__).parents[2] / "docs" / "serve.md").read_text(encoding="utf-8")
SHELL = [
    line
    for block in re.findall(r"```sh\n(.*?)```", MANUAL, re.DOTALL)
    for line in block.splitlines()
]
PYTHON = re.findall(r"```python\n(.*?)```", MANUAL, re.DOTALL)


@pytest.mark.skipif(shutil.which("curl") is None, reason="no curl is installed")
def test_every_example_works(
    listener: Listener, note: Note, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("MANTISREED_TRUST", str(tmp_path))
    shutil.copy(note.path, tmp_path / "talk.mp3")
    content = note.path.read_bytes()
    (tmp_path / "first.part").write_bytes(content[:100_000])
    (tmp_path / "rest.part").write_bytes(content[100_000:])
    with standins(listener, tmp_path), serving(tmp_path) as service:
        upload = ""
        for line in SHELL:
            if not line.startswith("curl"):
                continue
            given = line.replace("http://127.0.0.1:8442", service.address).replace("ID", upload)
            shown = subprocess.run(
                given.replace("curl", "curl -s -D head.txt", 1),
                shell=True,
                cwd=tmp_path,
                capture_output=True,
            )
            status = int(re.findall(r"HTTP/1.1 (\d+)", (tmp_path / "head.txt").read_text())[-1])
            assert status in (200, 201, 202, 204), (line, shown.stdout)
            if place := re.search(r"location: /uploads/(\w+)", (tmp_path / "head.txt").read_text()):
                upload = place[1]
        for program in PYTHON:
            program = program.replace("http://127.0.0.1:8442", service.address)
            shown = subprocess.run(
                [sys.executable, "-c", program], cwd=tmp_path, capture_output=True, check=True
            )
            assert (
                b"done" in shown.stdout
                and note.composition.truth[0].phrase.text.encode() in shown.stdout
            )
        paths = service.ask("GET", "/openapi.json").json["paths"]
    named = set(re.findall(r"`(GET|POST|PUT|DELETE) (/[\w/]*)", MANUAL))
    served = {
        (method.upper(), path.replace("{form}", "srt").replace("{job}", "ID"))
        for path, methods in paths.items()
        for method in methods
    }
    named = {(method, path.replace("/json", "/srt")) for method, path in named}
    assert named - served <= {("GET", "/openapi")}
    for line in SHELL:
        if line.startswith("mantisreed tokens"):
            command = [sys.executable, "-m", *line.split()]
            subprocess.run(command, cwd=tmp_path, capture_output=True, check=True)
