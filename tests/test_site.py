"""The manual as a static site: it builds without a warning, has every page, and fetches nothing."""

import re
import subprocess
import sys
from pathlib import Path

import pytest
import yaml

from conftest import Command

ROOT = Path(__file__).parent.parent


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("site")
    command = [sys.executable, "-m", "mkdocs", "build", "--strict", "--site-dir", str(folder)]
    ended = subprocess.run(command, cwd=ROOT, capture_output=True, text=True)
    assert ended.returncode == 0, ended.stderr
    return folder


def test_every_page_of_the_manual_is_in_it_and_in_its_menu(site: Path) -> None:
    menu = (ROOT / "mkdocs.yml").read_text()
    for page in (ROOT / "docs").glob("*.md"):
        assert f" {page.name}\n" in menu, page.name
        assert (site / f"{page.stem}.html").is_file()
    for name in ("index", "changes", "benchmarks"):
        assert (site / f"{name}.html").is_file()


def test_links_lead_to_files_and_headings_of_it(site: Path) -> None:
    for page in site.glob("*.html"):
        if page.name == "404.html":
            continue  # its links are those of a server
        text = page.read_text()
        for target, place in re.findall(r'(?:href|src)="(?!\w+:|//)([^"#]*)#?([^"]*)"', text):
            found = page.parent / target if target else page
            assert found.exists(), (page.name, target)
            if place and found.suffix == ".html":
                assert f'id="{place}"' in found.read_text(), (page.name, target, place)


def test_nothing_is_fetched_from_elsewhere(site: Path) -> None:
    for page in site.glob("*.html"):
        fetched = re.findall(
            r'<(?:script|img|link)[^>]+(?:src|href)="(https?:[^"]+)"', page.read_text()
        )
        assert not [one for one in fetched if "canonical" not in one], page.name
    settings = yaml.safe_load((ROOT / "mkdocs.yml").read_text())
    assert settings["theme"]["highlightjs"] is False and settings["strict"] is True


def test_the_readme_on_a_package_index_leads_to_nothing_that_is_not_there(
    mantisreed: Command,
) -> None:
    script = ROOT / "tools" / "index_readme.py"
    made = subprocess.run([sys.executable, script], capture_output=True, text=True, check=True)
    assert "python -m pip install mantisreed\n" in made.stdout
    assert "'mantisreed[plot,s3]'" in made.stdout and "<this repository>" not in made.stdout
    assert re.findall(r"\]\((?!https?:)[^)]*\)", made.stdout) == []
    pages = set(re.findall(r"`mantisreed docs ([\w-]+)`", made.stdout))
    assert len(pages) > 10
    for page in pages:
        assert mantisreed("docs", page).returncode == 0, page
