"""What a field of a request is for, as its name and its example value tell."""

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Any

from mantisreed.learning.random_values import looks_random

_LANGUAGE_TAG = re.compile(r"[a-z]{2,3}([-_][A-Za-z0-9]{2,8})*")
_LANGUAGE = re.compile(r"lang|locale|culture|tongue", re.I)
_TARGET = re.compile(r"target|translat|output[_-]?lang|into", re.I)
# As a whole part of the name: `keywords` and `token_count` hold no secrets.
_KEY = re.compile(
    r"(^|[-_.])(api|app|access|client|auth|session)?[-_]?(key|token|secret|passw(or)?d|pass|pwd?|"
    r"passphrase|auth(orization)?|sig|signature|session|sid|licen[cs]e|credentials?|jwt)s?$"
    r"|subscription[-_]?key|api[-_]?key|session[-_]?id|^(k|code|otp|pin)$",
    re.I,
)
_RATE = re.compile(r"(sample|sampling)[-_]?(rate|freq)|rate[-_]?hertz|samplerate|^sr$|hertz$", re.I)
# As a whole: `channel_names` is something else.
_CHANNELS = re.compile(r"^(audio[-_]?)?(num[-_]?)?channels?([-_]?count)?$", re.I)
_FORMAT = re.compile(
    r"(^|[-_])(format|encoding|codec|container|file[-_]?type|mime[-_]?type|content[-_]?type)$", re.I
)
_HINTS = re.compile(r"hint|keyword|key[-_]?term|phrase|vocab|boost|custom[-_]?words|context", re.I)
_CALLBACK = re.compile(r"callback|web[-_]?hook|notif(y|ication)", re.I)
_AUDIO = re.compile(r"audio|sound|file|media|recording|content|data|input|speech|wav", re.I)
_LINK = re.compile(r"ur[il]|link|href|source", re.I)
_DATA_URI = re.compile(r"data:audio/[^;,]*;base64,", re.I)
_BASE64 = re.compile(r"[A-Za-z0-9+/_-]{16,}={0,2}(\.\.\.|…)?")
_WANTS_BASE64 = re.compile(r"base ?64|b64", re.I)
_STANDS_FOR = re.compile(
    r"\$\(.*|`.*|<.*>|\{\{?.*\}?\}|\[.*\]|\.\.\.|…|\$\{?\w+\}?|[Yy]our[-_ ].*|[A-Z]+_[A-Z0-9_]+",
    re.DOTALL,
)
_EXTENSIONS = {
    "flac": "flac",
    "wav": "wav",
    "wave": "wav",
    "mp3": "mp3",
    "mpeg": "mp3",
    "mpga": "mp3",
    "ogg": "opus",
    "opus": "opus",
    "oga": "opus",
    "webm": "webm",
    "aiff": "aiff",
    "aif": "aiff",
    "au": "au",
    "caf": "caf",
    "linear16": "pcm-s16le",
    "pcm_s16le": "pcm-s16le",
    "mulaw": "mulaw",
    "alaw": "alaw",
    "x-wav": "wav",
    "x-flac": "flac",
    "vnd.wave": "wav",
}
# Recordings too, but no names of formats that a card can ask for.
_OTHER_SOUND = ("m4a", "mp4", "aac", "wma", "amr", "3gp", "mov", "mkv", "raw", "pcm")


@dataclass(slots=True)
class FoundFields:
    """What a request needs of the card, gathered from its fields.

    Attributes:
        engine: its name.
        secrets: where its keys are kept, by their placeholders.
        formats: audio formats that it is said to take, in order.
        format_names: what the engine calls them, where it differs.
        values: placeholders that the user has to fill in, with what stood there.
        notes: what the reader should know.
        takes_audio: whether the audio is sent.
        takes_link: whether a link to it is.
        taken: placeholders for what an earlier answer gave.
    """

    engine: str
    secrets: dict[str, str] = field(default_factory=dict)
    formats: list[str] = field(default_factory=list)
    format_names: dict[str, str] = field(default_factory=dict)
    values: dict[str, str] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    takes_audio: bool = False
    takes_link: bool = False
    taken: set[str] = field(default_factory=set)
    _known_keys: dict[str, str] = field(default_factory=dict)

    @property
    def secret_places(self) -> list[str]:
        """The variables of the environment in which its keys are to be put."""
        return [place.partition(":")[2] for place in self.secrets.values()]

    def keep_key(self, value: str, name: str = "key") -> str:
        """The template for a key; the key itself goes nowhere.

        Args:
            value: of the key, or what stands for it.
            name: of the field that it is in; the first one is called `key`.
        """
        # An earlier answer gives it: a login's token is no secret of the user's.
        if value.strip("{}") in self.taken:
            return value
        if value not in self._known_keys:
            self._known_keys[value] = self._new_secret(value, name)
        return f"{{{self._known_keys[value]}}}"

    def _new_secret(self, value: str, name: str) -> str:
        # The first is `key`, as most services have one; others are called as their fields.
        plain = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")
        called = plain if self.secrets and plain[:1].isalpha() else "key"
        number = 2
        while called in (*self.secrets, *self.values):
            called = f"{called.rstrip('0123456789').rstrip('_')}_{number}"
            number += 1
        # A page that says `$MARSH_KEY` has named the variable already.
        named = re.search(r"\$\{?([A-Za-z_]\w*)", value)
        engine = re.sub(r"[^A-Z0-9]+", "_", self.engine.upper()).strip("_")
        self.secrets[called] = f"env:{named[1] if named else f'{engine}_{called.upper()}'}"
        return called

    def add_format(self, name: str) -> None:
        """Note a format by its own name, or by what the engine calls it."""
        form = format_called(name)
        if form is None:
            if name.lower() in _OTHER_SOUND:
                self.notes.append(
                    f"the example sends {name}; say in accepts.formats what else the engine takes"
                )
            return
        if form not in self.formats:
            self.formats.append(form)

    def text(self, name: str, value: str) -> str | None:
        """The template for a field; None when it is better left out."""
        if _CALLBACK.search(name) and (value.startswith("http") or is_stand_in(value)):
            self.notes.append(
                f"{name!r} was left out: see [callback] in the manual if the engine is to call back"
            )
            return None
        if _is_language(name, value):
            # `target_language` names what is wanted, and not what is spoken.
            if _TARGET.search(name):
                return "{target}"
            return "{language}"
        for pattern, template in ((_RATE, "{sample_rate}"), (_CHANNELS, "{channels}")):
            if pattern.search(name) and value.isdigit():
                return template
        says_format = _FORMAT.search(name) or value.startswith("audio/")
        if says_format and (form := format_called(value)):
            self.add_format(value)
            # The service calls the format otherwise than we do.
            if value.lower() != form:
                self.format_names[form] = value
            return "{content_type}" if "/" in value else "{format}"
        return self.literal(value, name)

    def path(self, value: str) -> str:
        """A path as it is, with placeholders for what stands for something and for what looks
        random.
        """
        return "/".join(self.literal(part, "path_key") for part in value.split("/"))

    def literal(self, value: str, name: str = "key") -> str:
        """A text as it is, with placeholders for what stands for something in it and for what
        looks random, as that may be a secret.
        """
        if is_stand_in(value):
            return self._with_placeholders(value)
        words = re.split(r"(\s+)", value)
        if value.startswith(("http://", "https://")):
            # Parts of an address are judged one by one: a key may be in its path.
            words = re.split(r"([/?&=#:]+)", value)
        return "".join(
            self.keep_key(word, name) if looks_random(word) else self._with_placeholders(word)
            for word in words
        )

    def _with_placeholders(self, value: str) -> str:

        def placeholder(match: re.Match[str]) -> str:
            name = re.sub(r"[^a-z0-9]+", "_", next(filter(None, match.groups())).lower()).strip("_")
            # No name for a placeholder: it stays a text, whose braces are doubled.
            if not name or not name[0].isalpha():
                return match[0].replace("{", "{{").replace("}", "}}")
            if name not in self.taken:
                self.values.setdefault(name, "...")
            return f"{{{name}}}"

        return re.sub(r"\$\{(\w+)\}|\$(\w+)|\{(\w+)\}|<([\w -]+)>", placeholder, value)

    def json(self, value: Any, name: str = "") -> Any:
        """The template of a JSON body; what is better left out is None."""
        if isinstance(value, Mapping):
            return {key: self.json(item, key) for key, item in value.items()}
        if isinstance(value, list):
            return self._json_list(value, name)
        if isinstance(value, bool) or value is None:
            return value
        if isinstance(value, (int, float)):
            for pattern, template in ((_RATE, "{sample_rate}"), (_CHANNELS, "{channels}")):
                if pattern.search(name):
                    return template
            return value
        return self._json_text(name, str(value))

    def _json_list(self, value: list[Any], name: str) -> Any:
        # Words to expect are the user's, whatever the example has.
        if _HINTS.search(name) and all(isinstance(item, str) for item in value):
            return "{hints}"
        if _LANGUAGE.search(name) and len(value) == 1 and isinstance(value[0], str):
            return [self.text(name, value[0])]
        return [self.json(item, name) for item in value]

    def _json_text(self, name: str, value: str) -> str | None:
        if is_key(name):
            return self.keep_key(value, name)
        data_uri = _DATA_URI.match(value)
        if data_uri and not self.takes_audio:
            self.takes_audio = True
            return "data:{content_type};base64,{audio|base64}"
        if (
            not self.takes_audio
            and _AUDIO.search(name)
            and not _LINK.search(name)
            and looks_like_base64(value)
        ):
            self.takes_audio = True
            return "{audio|base64}"
        is_link = value.startswith(("http://", "https://")) and not _CALLBACK.search(name)
        if (
            is_link
            and not (self.takes_audio or self.takes_link)
            and (_LINK.search(name) or _AUDIO.search(name))
        ):
            self.takes_link = True
            self.add_format(extension_of(value))
            return "{recording_url}"
        return self.text(name, value)


def format_called(name: str) -> str | None:
    """The format of this name, extension or media type; None when it is none that can be sent."""
    return _EXTENSIONS.get(name.lower().partition(";")[0].rpartition("/")[2].strip())


def extension_of(file: str) -> str:
    """What a file's name ends with, without the dot."""
    return PurePosixPath(file.partition("?")[0]).suffix.lstrip(".").lower()


def is_sound_file(file: str) -> bool:
    """Whether a file's name is that of a recording."""
    extension = extension_of(file)
    return extension in _EXTENSIONS or extension in _OTHER_SOUND


def is_key(name: str) -> bool:
    """Whether a field of this name holds a key."""
    return bool(_KEY.search(name))


def is_hint(name: str) -> bool:
    """Whether a field of this name takes words to expect."""
    return bool(_HINTS.search(name))


def is_audio(name: str) -> bool:
    """Whether a field of this name may hold the audio."""
    return bool(_AUDIO.search(name))


def is_link(name: str) -> bool:
    """Whether a field of this name may hold a link."""
    return bool(_LINK.search(name))


def is_language(name: str) -> bool:
    """Whether a field of this name holds a language."""
    return bool(_LANGUAGE.search(name))


def is_stand_in(value: str) -> bool:
    """Whether a value stands for another: `<token>`, `$KEY`, `YOUR_KEY`."""
    return bool(_STANDS_FOR.fullmatch(value.strip()))


def looks_like_base64(value: str) -> bool:
    """Whether a value is, or stands for, bytes in base64."""
    return bool(
        _WANTS_BASE64.search(value) or _BASE64.fullmatch(value.strip()) or is_stand_in(value)
    )


def _is_language(name: str, value: str) -> bool:
    return bool(_LANGUAGE.search(name)) and bool(
        _LANGUAGE_TAG.fullmatch(value) or is_stand_in(value)
    )
