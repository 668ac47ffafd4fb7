"""What stands on both sides of a conjunction decides whether lines break before it."""

import pytest

from mantisreed.subtitles.language.break_place import LOOSE, PLAIN
from mantisreed.subtitles.language.breaks import break_penalties

GOOD = [
    ("en", "The tide turned | and the nets were down by then"),
    ("en", "We rowed out to the island | and counted the nests"),
    ("en", "They like the hut on the bank | and they come every year"),
    ("en", "It was safe | but it was slow in the wind"),
    ("en", "We put nets by the hut on the bank | and on the island in the creek"),
    ("de", "Er öffnete den Beutel | und zählte die Vögel"),
    ("de", "Es regnete den ganzen Tag | und niemand wollte hinaus"),
    ("fr", "Revenez à la cabane | et attendez-nous devant la porte"),
    ("es", "Abrió la bolsa | y contó los pájaros"),
    ("ru", "Выключи мотор | но вытащи лодку на песок"),
]
TORN = [
    ("en", "Ports | and Lights are on the shelf"),
    ("en", "two | and a half hours"),
    ("en", "terns | and gulls on the bank"),
    ("en", "the cold | and wet morning"),
    ("en", "sooner | or later we shall see"),
    ("en", "two | or three nets"),
    ("en", "the mother | and her young"),
    ("de", "früher | oder später kommt er"),
    ("de", "Möwen | und Seeschwalben am Ufer"),
    ("de", "zwei | oder drei Netze"),
    ("fr", "tôt | ou tard il viendra"),
    ("fr", "neuf heures | et demie"),
    ("es", "treinta | y un pájaros"),
    ("es", "más | o menos la mitad"),
    ("es", "toda | la bandada"),
    ("it", "prima | o poi arriva"),
    ("ru", "рано | или поздно он придёт"),
    ("ru", "две | или три сети"),
    ("en", "he came now | that it was dark"),
    ("de", "er kam nur | weil es regnete"),
    ("fr", "il est venu bien | que le vent soit fort"),
    ("es", "no sé lo | que quieres"),
    ("en", "close to | the bank"),
    # a language that has no table
    ("cy", "aeth y | bachgen adref"),
]


def penalty_of(language: str, marked: str) -> float:
    words = marked.split()
    at = words.index("|")
    del words[at]
    return break_penalties(words, language)[at]


@pytest.mark.parametrize(("language", "marked"), GOOD)
def test_a_break_before_what_joins_clauses_is_good(language: str, marked: str) -> None:
    assert penalty_of(language, marked) < PLAIN - 4


@pytest.mark.parametrize(("language", "marked"), TORN)
def test_a_break_inside_of_what_is_read_as_one_is_poor(language: str, marked: str) -> None:
    assert penalty_of(language, marked) >= min(PLAIN, LOOSE)


def test_a_clause_that_has_just_begun_is_not_parted() -> None:
    words = ["We", "were", "tired,", "the", "others", "had", "left", "by", "then"]
    penalties = break_penalties(words, "en")
    # before `had`, two words after the comma, against before `by`
    assert penalties[3] < penalties[7] < penalties[5]
