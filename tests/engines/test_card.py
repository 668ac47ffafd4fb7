"""Reading engine cards and settings: what fits, and what is told about what does not."""

from pathlib import Path

import pytest

from engines.cards import BROOK, brook_card, workspace_of
from mantisreed.errors import InputError, SettingsError
from mantisreed.settings import check_language
from mantisreed.workspace import open_workspace


def test_a_card_is_read_with_its_units(tmp_path: Path) -> None:
    card = brook_card(tmp_path)
    assert (
        card.name == "brook"
        and card.accepts.max_bytes == 16 << 20
        and card.rate_limit is not None
        and float(card.rate_limit.window) == 60
    )
    assert card.price is not None and str(card.price.per_minute) == "0.004"
    assert str(card.secrets["key"]) == "file:standin.key"


@pytest.mark.parametrize(
    ("old", "new", "place", "told"),
    [
        (
            "path =",
            "address =",
            "[engine.brook.send]",
            "unknown key 'address'; keys here: path, url",
        ),
        ("max_bytes =", "most_bytes =", "[engine.brook.accepts]", "did you mean 'max_bytes'?"),
        ("[engine.brook.price]", "[engine.brook.poll]", "[engine.brook]", "unknown key 'poll'"),
        (
            'text = "says"',
            'formats = "json"\ntext = "says"',
            "[engine.brook.reply]",
            "did you mean 'format'?",
        ),
        (
            'text = "says"',
            'format = "jason"\ntext = "says"',
            "[engine.brook.reply]",
            "expected 'json', 'lines', 'ev",
        ),
        ("path =", "pathe =", "[engine.brook.send]", "unknown key 'pathe'; did you mean 'path'?"),
        (
            "about =",
            "colour =",
            "[engine.brook]",
            "unknown key 'colour'; keys here: about, url, secrets",
        ),
        (
            "engine.brook.price",
            "engine.brook.prize",
            "[engine.brook]",
            "unknown key 'prize'; did you mean 'price'?",
        ),
        ('url = "http://127.0.0.1:9/brook"', "", "[engine.brook]", "key 'url' is missing"),
        ("http://127.0.0.1:9/brook", "brook.example", "[engine.brook]", "key 'url': expected http"),
        (
            '"file:standin.key"',
            '"q7-very-secret"',
            "[engine.brook.secrets]",
            "key 'key': a secret is never written",
        ),
        (
            '"16 MiB"',
            '"16 buckets"',
            "[engine.brook.accepts]",
            "key 'max_bytes': expected a size such as",
        ),
        ('"60 s"', "true", "[engine.brook.rate_limit]", "key 'window': expected a duration"),
        (
            "requests = 120",
            'requests = "many"',
            "[engine.brook.rate_limit]",
            "key 'requests': expected a whole number, found text",
        ),
        ("0.004", '"cheap"', "[engine.brook.price]", "key 'per_minute': expected a number"),
        (
            'form.creek = "deep"',
            "form.creek = 2026-11-25",
            "[engine.brook.send.form]",
            "key 'creek': expected text or",
        ),
        (
            '"flac", ',
            '"sirens", ',
            "[engine.brook.accepts]",
            "key 'formats': expected some of flac, wav",
        ),
        ('"{audio}"', '"audio"', "[engine.brook.send]", "no step sends the audio"),
        ("{language}", "{tongue}", "[engine.brook.send]", "unknown placeholder {tongue}"),
        ("{key}", "{kay}", "[engine.brook.every]", "unknown placeholder {kay}"),
        (
            'each = "words"',
            'each = "words["',
            "[engine.brook.reply.words]",
            "key 'each': 'words[' is not a JMESPath",
        ),
        (
            'each = "words"',
            "each = 4",
            "[engine.brook.reply.words]",
            "key 'each': expected a JMESPath",
        ),
    ],
)
def test_what_is_wrong_in_a_card_is_told_with_its_place(
    tmp_path: Path, old: str, new: str, place: str, told: str
) -> None:
    with pytest.raises(SettingsError) as caught:
        brook_card(tmp_path, old, new)
    error = caught.value
    assert error.where == f"{tmp_path / 'mantisreed.toml'}: {place}"
    assert told in "; ".join(filter(None, (error.what, error.advice)))
    assert "q7-very-secret" not in f"{error.what}{error.advice}"


@pytest.mark.parametrize(
    ("toml", "told"),
    [
        ("[engine.brook\n", "not TOML: .*line 1"),
        ("[motor.brook]\n", "unknown table or key 'motor'"),
        ("engine = 3\n", "key 'engine': expected a table"),
        ("[engine]\nbrook = 3\n", "key 'brook': expected a table"),
        ("[settings]\nlanguages = 'en'\n", "unknown key 'languages'"),
        ("[settings]\nto = 'srt'\n", "key 'to': expected a list, found text"),
    ],
)
def test_what_is_wrong_in_the_settings_is_told(tmp_path: Path, toml: str, told: str) -> None:
    with pytest.raises(SettingsError, match=told):
        workspace_of(tmp_path, toml)


def test_the_engine_is_the_one_named_or_set_or_the_only_one(tmp_path: Path) -> None:
    two = BROOK + BROOK.replace("engine.brook", "engine.heron")
    assert workspace_of(tmp_path, BROOK).engine(None).name == "brook"
    assert (
        workspace_of(tmp_path, f'[settings]\nengine = "heron"\n{two}').engine(None).name == "heron"
    )
    with pytest.raises(InputError, match="no engine is chosen"):
        workspace_of(tmp_path, two).engine(None)
    with pytest.raises(InputError, match="'sedge'") as caught:
        workspace_of(tmp_path, two).engine("sedge")
    assert caught.value.advice == "it has: brook, brook:quick, heron, heron:quick"


def test_settings_are_looked_for_in_the_folders_above(tmp_path: Path) -> None:
    (tmp_path / "mantisreed.toml").write_text(BROOK)
    (tmp_path / "a" / "b").mkdir(parents=True)
    assert open_workspace(start=tmp_path / "a" / "b").folder == tmp_path


@pytest.mark.parametrize(
    "tag", ["en", "en-GB", "zh-Hant-TW", "gsw", "es-419", "de-CH-1901", "en-x-marsh", "sl-rozaj"]
)
def test_language_tags_are_taken(tag: str) -> None:
    assert check_language(tag) == tag


@pytest.mark.parametrize("tag", ["", "english", "en_GB", "e", "en-", "12", "en GB"])
def test_what_has_not_the_form_of_a_tag_is_refused(tag: str) -> None:
    with pytest.raises(InputError, match="not a language tag"):
        check_language(tag)
