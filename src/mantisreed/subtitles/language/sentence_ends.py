"""Where sentences end: a full stop may also be that of an abbreviation, an initial or an
ordinal.
"""

from mantisreed.subtitles.language.languages import words_of_language
from mantisreed.transcript.punctuation import ends_sentence

# Quotes and brackets, and the marks that Spanish sentences begin with.
_AROUND = "\"'“”„«»‹›()[]{}¿¡"
_STRIPPED = ".,;:!?\"'“”„«»()[]{}…¿¡♪♫"
_QUOTES = '"“”„«»'


def is_sentence_end(text: str, following: str, tongue: str) -> bool:
    """Whether a sentence ends with a word, and not only an abbreviation, an initial or an ordinal.

    Args:
        text: the word, with what is written at it.
        following: the next one.
        tongue: the first part of the language's tag.
    """
    if not ends_sentence(text):
        return False
    bare = text.lower().strip(_AROUND)
    first = following.lstrip(_AROUND)[:1]
    if following and not following.strip(_AROUND + "”"):
        return False  # the mark that closes the quotation
    if not bare.endswith(".") or bare.endswith("..") or not following:
        # `... he said "Stop!" and left`, and in French `» dit-il`: a quotation that its sentence
        # goes on behind
        is_quoted = text[-1:] in _QUOTES or following[:1] == "»"
        return not (is_quoted and first.islower())
    return not first.islower() and _is_full_stop(text, following, first, tongue)


def _is_full_stop(text: str, following: str, first: str, tongue: str) -> bool:
    """Whether a full stop before what may begin a sentence ends one."""
    word = text.lower().strip(_AROUND).rstrip(".")
    known = words_of_language(tongue)
    # An initial, or letters with full stops between them such as `J. R.`
    is_capital = text.strip(_AROUND)[:1].isupper()
    is_initial = len(word) == 1 and word.isalpha() and is_capital and word != "i"
    if is_initial or word in known.never_ends:
        return False
    if word in known.may_end:
        return not first.isdigit()
    if word.isdigit():  # `3. Februar` is a date, `we counted 3.` an end
        return following.lower().strip(_STRIPPED) not in known.months
    return True
