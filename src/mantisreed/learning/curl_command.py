"""Curl commands, read as a shell and curl read them."""

import re
import shlex
from collections.abc import Iterator
from dataclasses import dataclass, field

from mantisreed.errors import InputError
from mantisreed.urls import split_url

# Behind a prompt, a pipe or an assignment, by a path, and as it is called on other systems.
_COMMAND = re.compile(r"(?:^|[\n;&|(])\s*(?:[$>#%]\s+)?((?:\S*[/\\])?curl(?:\.exe)?)(?=\s)")

# Those that take a value or say something of the request; a letter that is missing here would be
# taken for an option without a value, and its value for the address.
_NAMES = {
    "-X": "--request",
    "-H": "--header",
    "-F": "--form",
    "-d": "--data",
    "-u": "--user",
    "-G": "--get",
    "-T": "--upload-file",
    "-b": "--cookie",
    "-m": "--max-time",
    "-L": "--location",
    "-A": "--user-agent",
    "-e": "--referer",
    "-o": "--output",
    "-w": "--write-out",
    "-x": "--proxy",
    "-c": "--cookie-jar",
    "-E": "--cert",
    "-K": "--config",
    "-r": "--range",
    "-D": "--dump-header",
    "-C": "--continue-at",
    "-y": "--speed-time",
    "-Y": "--speed-limit",
    "-z": "--time-cond",
    "-t": "--telnet-option",
    "-P": "--ftp-port",
    "-Q": "--quote",
    "-U": "--proxy-user",
}

# Without this list `--retry 3 https://...` would ask for the address 3.
_WITH_VALUE = frozenset(_NAMES.values()) - {"--get", "--location"} | {
    *(
        "--url",
        "--data-raw",
        "--data-binary",
        "--data-urlencode",
        "--data-ascii",
        "--json",
        "--form-string",
    ),
    *(
        "--connect-timeout",
        "--retry",
        "--retry-delay",
        "--cacert",
        "--key",
        "--oauth2-bearer",
        "--resolve",
    ),
    *("--max-redirs", "--limit-rate", "--interface", "--url-query", "--unix-socket", "--trace"),
}

_DATA = ("--data", "--data-raw", "--data-ascii", "--data-binary", "--json")


@dataclass(slots=True)
class CurlCommand:
    """What a command says of its request.

    Attributes:
        url: where it goes.
        method: as it is said; None where curl chooses it.
        headers: as they are said.
        forms: parts of a multipart form: name, what it is, and whether it is text whatever it looks
            like.
        data: parts of the body: the option, and what it says.
        user: name and password.
        upload: the file whose bytes are the body.
        is_query: whether the data goes into the query.
        follows: whether redirects are followed.
        seconds: for the whole request at most.
        others: how many more commands there are.
        is_digest: whether the password is proved by digest authentication.
    """

    url: str = ""
    method: str | None = None
    headers: list[tuple[str, str]] = field(default_factory=list)
    forms: list[tuple[str, str, bool]] = field(default_factory=list)
    data: list[tuple[str, str]] = field(default_factory=list)
    user: str | None = None
    upload: str | None = None
    is_query: bool = False
    follows: bool = False
    seconds: float | None = None
    others: int = 0
    is_digest: bool = False


def holds_curl(text: str) -> bool:
    """Whether a text has a curl command in it."""
    return bool(_COMMAND.search(text))


def read_curl(text: str) -> CurlCommand:
    """The first command of a text.

    Raises:
        InputError: there is none that can be read.
    """
    starts = list(_COMMAND.finditer(text))
    if not starts:
        raise InputError("no curl command is in it")
    # The next command may stand inside of this one's quotes; then its end is beyond.
    following = starts[1].start() if len(starts) > 1 else len(text)
    end = _end_of_command(text, starts[0].start(1), following)
    command = CurlCommand(others=len(starts) - 1)
    words = _words(_without_heredoc(text[starts[0].end(1) : end]))
    for option, value in _options(words):
        _take(command, option, value)
    if not command.url:
        raise InputError("the curl command has no URL")
    # Pages leave the scheme out; nobody sends keys without encryption.
    if "//" not in command.url:
        command.url = f"https://{command.url}"
    if not split_url(command.url).netloc:
        raise InputError(f"the curl command has a URL that is none: {command.url}")
    return command


@dataclass(frozen=True, slots=True)
class ShownCommand:
    """A command of a script or a page, with what stands around it.

    Attributes:
        command: itself.
        after: what follows it, up to the next command: perhaps its answer.
        variable: of the shell, into which a part of its answer goes; empty for none.
        filter: the `jq` filter that takes it; empty for none.
    """

    command: CurlCommand
    after: str
    variable: str = ""
    filter: str = ""


# `ID=$(curl ...)`: what a later command calls $ID is what this one answers.
_CAPTURED = re.compile(r"(?:^|[\n;])[ \t]*(?:export[ \t]+)?(\w+)=[\"']?\$\([ \t]*$")
_JQ = re.compile(r"\|\s*jq\s+(?:-+[\w-]+\s+)*['\"]?\.([\w.\[\]-]+)['\"]?")


def read_curls(text: str) -> list[ShownCommand]:
    """All commands of a text, in order.

    Raises:
        InputError: one of them cannot be read.
    """
    starts = list(_COMMAND.finditer(text))
    shown: list[ShownCommand] = []
    for number, start in enumerate(starts):
        following = starts[number + 1].start() if number + 1 < len(starts) else len(text)
        end = _end_of_command(text, start.start(1), following)
        written = text[start.start(1) : end]
        captured = _CAPTURED.search(text[: start.start(1)])
        jq = _JQ.search(written)
        shown.append(
            ShownCommand(
                read_curl(written),
                text[end:following],
                captured[1] if captured else "",
                jq[1] if jq else "",
            )
        )
    return shown


def _end_of_command(text: str, start: int, limit: int) -> int:
    """Where a command ends: at the first line that does not go on in the next one."""
    end = start
    while end < limit:
        line_end = text.find("\n", end)
        if line_end < 0 or line_end >= limit:
            return limit
        end = line_end + 1
        written = text[start:line_end]
        # The marks of three shells for a line that goes on.
        if written.rstrip().endswith(("\\", "^", "`")) or _is_open(written):
            continue
        return end
    return limit


def _is_open(written: str) -> bool:
    """Whether a quote, or the text of a heredoc, goes on."""
    # A document that is not at its end yet; its quotes say nothing.
    if "<<" in written and not _HEREDOC.search(written + "\n"):
        return True
    try:
        shlex.split(_HEREDOC.sub("", written + "\n"))
    except ValueError:
        return True
    return False


_HEREDOC = re.compile(
    r"[ \t]*(?:@-|['\"]@-['\"])(?P<more>[^\n]*?)<<-?\s*(?P<quote>['\"]?)(?P<mark>\w+)(?P=quote)"
    r"(?P<rest>[^\n]*)\n(?P<text>.*?)\n[ \t]*(?P=mark)[ \t]*(?:\n|$)",
    re.DOTALL,
)


def _without_heredoc(text: str) -> str:
    """A command whose body comes from the lines below it, with these lines in its place."""

    def quoted(match: re.Match[str]) -> str:
        return f" {shlex.quote(match['text'])}{match['more']}{match['rest']}\n"

    return _HEREDOC.sub(quoted, text, count=1)


def _words(text: str) -> list[str]:
    """The words of a shell command up to its end."""
    # Lines go on after a backslash, and after a caret or a backtick in other shells.
    text = re.sub(r"[ \t]*[\\^`][ \t]*\r?\n", " ", text)
    text = re.sub(r"\$'((?:[^'\\]|\\.)*)'", lambda match: shlex.quote(_unescaped(match[1])), text)
    lexer = shlex.shlex(text, posix=True, punctuation_chars="|;&<>")
    lexer.whitespace_split = True
    # A number sign in an address or a header is no comment.
    lexer.commenters = ""
    # Not the line break, which ends the command.
    lexer.whitespace = " \t\r"
    words: list[str] = []
    try:
        for word in lexer:
            if word in ("|", ";", "&", "&&", "||", ">", ">>", "<", "<<", "\n"):
                break
            before, newline, _ = word.partition("\n")
            if newline and not before.strip():
                break
            words.append(word.strip("\n") if newline and not word.strip("\n").count("\n") else word)
            if newline and word.endswith("\n"):
                break
    except ValueError:
        raise InputError("a quote in the curl command is not closed") from None
    return words


def _unescaped(text: str) -> str:
    known = {"n": "\n", "t": "\t", "r": "\r", "\\": "\\", "'": "'", '"': '"'}
    return re.sub(r"\\(.)", lambda match: known.get(match[1], match[0]), text)


def _options(words: list[str]) -> Iterator[tuple[str, str]]:
    """Options with their values; the URL alone is `--url`."""
    rest = iter(words)
    for word in rest:
        if word.startswith("--"):
            name, equals, value = word.partition("=")
            # An option of one vendor's name, which takes a value too.
            if name in _WITH_VALUE or name.endswith("sigv4"):
                yield name, value if equals else next(rest, "")
            else:
                yield name, ""
        elif word.startswith("-") and len(word) > 1:
            yield from _short_options(word, rest)
        elif word.strip():
            yield "--url", word


def _short_options(word: str, rest: Iterator[str]) -> Iterator[tuple[str, str]]:
    """Several in one word, the last one perhaps with its value: `-sSXPOST`."""
    for position, letter in enumerate(word[1:], 1):
        name = _NAMES.get(f"-{letter}", f"-{letter}")
        if name in _WITH_VALUE:
            # `-XPOST` is `-X POST`, and `-sSL` three options.
            yield name, word[position + 1 :] or next(rest, "")
            return
        yield name, ""


def _take(command: CurlCommand, option: str, value: str) -> None:
    name, _, content = value.partition(":")
    if option == "--header":
        command.headers.append((name.strip(), content.strip()))
    elif option == "--cookie":
        command.headers.append(("Cookie", value.strip()))
    elif option == "--oauth2-bearer":
        command.headers.append(("Authorization", f"Bearer {value}".strip()))
    elif option in ("--form", "--form-string"):
        name, _, content = value.partition("=")
        command.forms.append((name, content, option == "--form-string"))
    elif option in (*_DATA, "--data-urlencode"):
        command.data.append((option, value))
    else:
        _take_setting(command, option, value)


def _take_setting(command: CurlCommand, option: str, value: str) -> None:
    """The same of an option that counts once."""
    if option == "--url":
        # The first one; others are asked for with the same options.
        command.url = command.url or value
    elif option == "--request":
        command.method = value.upper()
    elif option == "--user":
        command.user = value
    elif option == "--upload-file":
        command.upload = value
    elif option == "--max-time":
        is_number = value.replace(".", "", 1).isdigit()
        command.seconds = float(value) if is_number else None
    command.is_digest = command.is_digest or option in ("--digest", "--anyauth")
    command.is_query = command.is_query or option == "--get"
    command.follows = command.follows or option == "--location"
