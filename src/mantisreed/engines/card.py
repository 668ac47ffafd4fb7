"""The engine card: what a TOML table may say about an engine. `docs/engine-cards.md` is its manual.

Each table of a card is a struct here; a key is a field. What the types alone cannot see is in `card_checks.py`.
"""

from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any, Literal

import msgspec

from mantisreed.audio.formats import FORMATS
from mantisreed.engines.secrets import SecretSource
from mantisreed.engines.tables import Bytes, ReplyPath, Seconds, TakePath

TimeUnit = Literal["s", "ms", "us", "100ns", "samples", "clock", "iso8601", "suffixed"]
ReplyKind = Literal["json", "text", "srt", "vtt", "events", "lines"]
Method = Literal["GET", "POST", "PUT", "PATCH", "DELETE"]


class Table(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A TOML table whose keys are all known."""


class Accepts(Table, frozen=True, kw_only=True):
    """`[engine.NAME.accepts]`: what the engine takes in one request.

    Attributes:
        formats: audio formats, the one to try first in front.
        format_names: what the engine calls them, for `{format}`, where it differs.
        sample_rate: samples per second to send; the default is what speech engines work at.
        most_bytes: size of one request's audio at most; None for no limit known.
        longest: seconds of audio in one request at most; an hour where nothing is said, so that no piece grows
            without bound.
        languages: the tags it knows, or a table from tags to what it calls them; empty when any may be asked for.
    """

    formats: tuple[str, ...] = tuple(FORMATS)
    format_names: dict[str, str] = {}
    sample_rate: int = 16_000
    most_bytes: Bytes | None = None
    longest: Seconds = Seconds(3600)
    languages: tuple[str, ...] | dict[str, str] = ()

    @property
    def language_names(self) -> Mapping[str, str]:
        """From each tag to what the engine calls it."""
        return self.languages if isinstance(self.languages, dict) else {tag: tag for tag in self.languages}


class Price(Table, frozen=True, kw_only=True):
    """`[engine.NAME.price]`: money per minute of audio, billed in steps of `billing_step` seconds."""

    per_minute: Decimal
    currency: str = ""
    billing_step: Seconds = Seconds(1)


class Pace(Table, frozen=True, kw_only=True):
    """`[engine.NAME.pace]`: `requests` in any `window` seconds, and how many `at_once`."""

    requests: int | None = None
    window: Seconds = Seconds(60)
    at_once: int = 4


class Every(Table, frozen=True, kw_only=True):
    """`[engine.NAME.every]`: what goes with every request to the engine's own address, and to no other host.

    Attributes:
        headers, query: templates, as in a step.
        bearer: template of a bearer key.
        basic: template of `user:password` for HTTP basic authentication.
    """

    headers: dict[str, str] = {}
    query: dict[str, str] = {}
    bearer: str | None = None
    basic: str | None = None


class Token(Table, frozen=True, kw_only=True):
    """`[engine.NAME.token]`: a token to fetch first, for `{token}`: the client-credentials grant of RFC 6749, 4.4.

    Attributes:
        address: the token endpoint.
        client, secret: templates of the client's id and secret.
        scope: template; left out when empty.
        sent_as: `basic` sends id and secret as HTTP basic authentication, `form` as form fields (RFC 6749, 2.3.1).
    """

    address: str
    client: str
    secret: str
    scope: str = ""
    sent_as: Literal["basic", "form"] = "basic"


class Step(Table, frozen=True, kw_only=True):
    """One request and what is taken from its answer. At most one of `form`, `json` and `raw` is the body.

    Attributes:
        address: instead of the card's address; `path` is put after it.
        form: fields of a multipart form; the one that is `{audio}` is the file.
        json: a JSON document whose texts are templates; a text that is one placeholder alone takes its value's type.
        raw: `{audio}`: the bytes themselves are the body.
        time_limit: seconds for the whole request.
        take: names, and where their values are in the answer; later steps have them as placeholders.
    """

    address: str | None = None
    path: str = ""
    method: Method = "POST"
    headers: dict[str, str] = {}
    query: dict[str, str] = {}
    form: dict[str, str] | None = None
    json: dict[str, Any] | None = None
    raw: str | None = None
    time_limit: Seconds = Seconds(300)
    take: dict[str, TakePath] = {}


class Fetch(Step, frozen=True, kw_only=True):
    """`[engine.NAME.fetch]`: where the reply lives, when the last `poll` does not bring it."""

    method: Method = "GET"


class Poll(Fetch, frozen=True, kw_only=True):
    """`[engine.NAME.poll]`: where to ask how a job is.

    Attributes:
        state: where the state is in the answer; without it, 202 means waiting and 200 done.
        waiting, done, failed: what the engine calls these states.
        reason: where it says why a job failed.
        every: seconds before the first question; waits grow from there.
        slowest: seconds between two questions at most.
        limit: seconds after which the job is given up.
    """

    state: ReplyPath | None = None
    waiting: tuple[str, ...] = ()
    done: tuple[str, ...] = ()
    failed: tuple[str, ...] = ()
    reason: ReplyPath | None = None
    every: Seconds = Seconds(2)
    slowest: Seconds = Seconds(30)
    limit: Seconds = Seconds(6 * 3600)


class Lookup(Fetch, frozen=True, kw_only=True):
    """`[engine.NAME.lookup]`: asks whether a request that may have been lost has become a job.

    It is asked with the same `{request_id}` that went with the request. What `take` finds is what `send` would have
    given; when it finds nothing, or the answer is 404, the request is sent again.
    """


class Cancel(Step, frozen=True, kw_only=True):
    """`[engine.NAME.cancel]`: how a job that is not wanted any more is called off."""

    method: Method = "DELETE"


class Callback(Table, frozen=True, kw_only=True):
    """`[engine.NAME.callback]`: the engine calls the address `{callback}` when a job has ended.

    Attributes:
        secret: template of the secret with which it signs, after Standard Webhooks (`whsec_` and base64); without it
            only the address itself, which nobody can guess, tells the engine's calls from others.
        brings: `news`: it says that something has happened, and the job is asked for; `reply`: it is the reply.
    """

    secret: str | None = None
    brings: Literal["news", "reply"] = "news"


class WordPaths(Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.words]`: where words are. `each` gives the list, the rest is looked up in each item.

    With `[...reply.passages]`, `each` is looked up in each passage, otherwise in the whole reply. A word without
    letters and without a time is punctuation and joins the word before it.
    """

    each: ReplyPath
    text: ReplyPath
    start: ReplyPath
    end: ReplyPath | None = None
    length: ReplyPath | None = None
    confidence: ReplyPath | None = None
    speaker: ReplyPath | None = None


class PassagePaths(Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply.passages]`: where passages are, as for words.

    Without `start`, a passage's times are those of its words. `alternatives` gives a list of other readings.
    """

    each: ReplyPath
    text: ReplyPath
    start: ReplyPath | None = None
    end: ReplyPath | None = None
    length: ReplyPath | None = None
    speaker: ReplyPath | None = None
    alternatives: ReplyPath | None = None


class Reply(Table, frozen=True, kw_only=True):
    """`[engine.NAME.reply]`: what the answer is, and where things are in it.

    Attributes:
        kind: `json`; `text`, `srt` or `vtt` for such files as they are; `events` (server-sent events) or `lines` (a
            JSON document on each line) for answers that arrive bit by bit.
        text: the whole text; for `events` and `lines` the part of it that one item brings.
        whole: with `events` and `lines`: each item brings the whole text so far, not the next part of it.
        ends: with `events` and `lines`: data that only says that nothing more comes.
        language: the language heard.
        times: the unit of all times.
        passages, words: where they are; what has no times gets estimated ones.
    """

    kind: ReplyKind = "json"
    text: ReplyPath | None = None
    whole: bool = False
    ends: str | None = None
    language: ReplyPath | None = None
    times: TimeUnit = "s"
    passages: PassagePaths | None = None
    words: WordPaths | None = None

    @property
    def tells_speakers(self) -> bool:
        """Whether the card knows where speakers are in it."""
        return any(paths is not None and paths.speaker is not None for paths in (self.passages, self.words))


class ErrorPatterns(Table, frozen=True, kw_only=True):
    """By what an error of one kind is known: any of these HTTP statuses, or any of these texts in the answer."""

    statuses: tuple[int, ...] = ()
    texts: tuple[str, ...] = ()


class Errors(Table, frozen=True, kw_only=True):
    """`[engine.NAME.errors]`: how the engine's errors are known, where HTTP's own statuses do not say.

    Attributes:
        message: where the engine's own words are in a JSON answer.
        present: what is there in a JSON answer of status 2xx only when it is an error all the same.
    """

    message: ReplyPath | None = None
    present: ReplyPath | None = None
    refused: ErrorPatterns = ErrorPatterns()
    slow_down: ErrorPatterns = ErrorPatterns()
    too_big: ErrorPatterns = ErrorPatterns()
    format_refused: ErrorPatterns = ErrorPatterns()
    bad_request: ErrorPatterns = ErrorPatterns()
    engine_broke: ErrorPatterns = ErrorPatterns()
    nothing_heard: ErrorPatterns = ErrorPatterns()


class Command(Table, frozen=True, kw_only=True):
    """`[engine.NAME.command]`: a local program instead of HTTP.

    Attributes:
        run: the program and its arguments, as templates; one that is empty is left out.
        sound: whether the audio is a file, `{audio_file}`, or comes on standard input.
        answers: whether the reply is on standard output or in a file, `{reply_file}`.
        environment: more variables, as templates; the place for secrets, since arguments can be seen by others.
        time_limit: seconds, after which the program is stopped.
    """

    run: tuple[str, ...]
    sound: Literal["file", "stdin"] = "file"
    answers: Literal["stdout", "file"] = "stdout"
    environment: dict[str, str] = {}
    time_limit: Seconds = Seconds(3600)


class PythonObject(Table, frozen=True, kw_only=True):
    """`[engine.NAME.python]`: a Python object, by its entry point in the group `mantisreed.engines`, or its place.

    Attributes:
        object: the entry point's name, or `module:object`.
        time_limit: seconds for one piece, after which its process is stopped.
    """

    object: str
    time_limit: Seconds = Seconds(3600)


class EngineCard(Table, frozen=True, kw_only=True):
    """`[engine.NAME]`: one engine. `name` is the table's own name (and its profile's), not a key in it.

    Attributes:
        address: where the engine is; a template.
        values: more placeholders, such as an account or a region.
    """

    name: str
    reply: Reply
    about: str = ""
    address: str | None = None
    secrets: dict[str, SecretSource] = {}
    values: dict[str, str] = {}
    accepts: Accepts = Accepts()
    price: Price | None = None
    pace: Pace = Pace()
    every: Every = Every()
    token: Token | None = None
    upload: Step | None = None
    send: Step | None = None
    poll: Poll | None = None
    fetch: Fetch | None = None
    lookup: Lookup | None = None
    cancel: Cancel | None = None
    callback: Callback | None = None
    errors: Errors = Errors()
    command: Command | None = None
    python: PythonObject | None = None

    @property
    def steps(self) -> Iterator[tuple[str, Step]]:
        """The requests of its exchange, in order, with the names of their tables."""
        names = ("upload", "send", "poll", "fetch", "lookup", "cancel")
        for name in names:
            step = getattr(self, name)
            if step is not None:
                yield name, step
