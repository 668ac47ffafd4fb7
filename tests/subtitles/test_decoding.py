"""What a file was written in is found out, and told."""

import pytest

from mantisreed.errors import InputError
from mantisreed.formats.decoding import decoded

TEXTS = {
    "cp1250": (
        "Dziś rano naliczyliśmy czterdzieści biegusów, zanim przyszła woda.",
        "Řekni jí, že už běžím.",
    ),
    "cp1251": ("Сегодня утром мы насчитали сорок куликов.",),
    "cp1252": (
        "Wir haben vierzig Strandläufer gezählt. Größe: fünf.",
        "Où étiez-vous, à côté ?",
        "Möwe",
    ),
    "shift_jis": ("今朝は塩沼で四十二羽のハマシギを放鳥しました。",),
    "gb18030": ("今天早上我们在盐沼上放飞了四十二只黑腹滨鹬。",),
    "big5": ("今天早上我們在鹽沼上放飛了四十二隻黑腹濱鷸。",),
    "euc_kr": ("오늘 아침 우리는 갯벌에서 민물도요를 날려 보냈습니다.",),
    "utf-16": ("Tea at the hut.",),
}


@pytest.mark.parametrize(
    ("encoding", "text"), [(name, text) for name, texts in TEXTS.items() for text in texts]
)
def test_text_is_read_in_what_it_was_written(encoding: str, text: str) -> None:
    file = f"1\n00:00:01,000 --> 00:00:02,000\n{text}\n\n"
    read, remarks = decoded(file.encode(encoding))
    assert read == file and (encoding == "utf-16" or "the text was read as" in remarks[0].what)


def test_a_stray_byte_in_utf_8_is_told_and_changes_nothing_else() -> None:
    read, (remark,) = decoded("Größe, schön\n".encode() + b"M\xf6we, \xc3\xa4rger\n")
    assert read == "Größe, schön\nM\ufffdwe, ärger\n"
    assert (remark.found, remark.line) == ("0xf6", 2)


def test_two_byte_order_marks_are_one_too_many() -> None:
    read, (remark,) = decoded(b"\xef\xbb\xbf\xef\xbb\xbf1\n")
    assert read == "1\n" and remark.what == "there are two byte order marks"


def test_an_encoding_that_is_named_is_used_and_one_that_nobody_knows_is_refused() -> None:
    assert decoded("Möwe".encode("cp1250"), "cp1251")[0] != "Möwe"
    assert decoded("Möwe".encode("cp1250"), "cp1250")[0] == "Möwe"
    for name in ("marsh", "base64"):
        with pytest.raises(InputError, match=name):
            decoded(b"x", name)
