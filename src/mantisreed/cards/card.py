"""The tables of a card that say how a service is spoken to: where it is, its keys, its steps, its
errors.

Each table is a struct here; a key is a field. What the types alone cannot see is in `checks.py`.
"""

from functools import cached_property
from typing import Literal

from mantisreed.cards.paths import Condition, Take
from mantisreed.cards.steps import Status, Step, Table
from mantisreed.cards.tables import Seconds
from mantisreed.cards.templates import ListTemplate, Template
from mantisreed.secrets import SecretSource


class Every(Table, frozen=True, kw_only=True):
    """`every`: what goes with every request to the service's own host, and to no other.

    Attributes:
        headers, query: templates, as in a step.
        bearer: template of a bearer key (RFC 6750).
        basic: template of `user:password` for HTTP basic authentication (RFC 7617).
        digest: the same for HTTP digest authentication (RFC 7616).
    """

    headers: dict[str, ListTemplate] = {}  # noqa: RUF012 - msgspec copies it
    query: dict[str, ListTemplate] = {}  # noqa: RUF012 - msgspec copies it
    bearer: Template | None = None
    basic: Template | None = None
    digest: Template | None = None


class Signature(Table, frozen=True, kw_only=True):
    """`sign.NAME`: an HMAC (RFC 2104) for `{NAME}`, over a template.

    Attributes:
        key: template of the key; it may be another signature, for keys that are derived in steps.
        text: template of what is signed; `{method}`, `{host}`, `{path}`, `{query}`, `{url}` and
            `{body}` are those of the request.
        hash: the hash function.
        encoding: how the result is written; `raw` only where it is the key of another signature.
    """

    key: Template
    text: Template
    hash: Literal["sha256", "sha512", "sha384", "sha1"] = "sha256"
    encoding: Literal["hex", "base64", "base64url", "raw"] = "hex"


class Cancel(Step, frozen=True, kw_only=True, dict=True):
    """`cancel`: calls off a job; the method is DELETE where it has no body."""

    @property
    def verb(self) -> str:
        """The HTTP method."""
        return self.method or ("POST" if self.body_keys else "DELETE")


class Login(Step, frozen=True, kw_only=True, dict=True):
    """`login`: a request for what all others need, such as a token; shared by them, and renewed
    when it ends.

    Attributes:
        expires_in: where the answer says for how many seconds it is good.
        expires_at: where it says until which moment: ISO 8601, an HTTP date, or seconds since 1970.
        lifetime: seconds, where the answer does not say; None keeps it until it is refused.
        replaces: secrets that each login replaces, such as a refresh token, and where the new ones
            are in the answer; they are written to where the old ones were kept.
    """

    replaces: dict[str, Take] = {}  # noqa: RUF012 - msgspec copies it
    expires_in: Take | None = None
    expires_at: Take | None = None
    lifetime: Seconds | None = None


class TokenGrant(Table, frozen=True, kw_only=True):
    """`token`: a token to fetch first, for `{token}`: the client-credentials grant of RFC 6749,
    4.4.

    Attributes:
        url: the token endpoint.
        client, secret: templates of the client's id and secret.
        scope: template; left out when empty.
        sent_as: `basic` sends id and secret as HTTP basic authentication, `form` as form fields
            (RFC 6749, 2.3.1).
    """

    url: Template
    client: Template
    secret: Template
    scope: Template = Template("")
    sent_as: Literal["basic", "form"] = "basic"


class ErrorPatterns(Table, frozen=True, kw_only=True):
    """By what an error of one kind is known: any of these HTTP statuses, texts in the answer, or a
    condition on it.

    Attributes:
        statuses: HTTP statuses.
        texts: texts that occur in a text of the answer, however it is written down.
        when: a condition on a JSON or XML answer.
    """

    statuses: tuple[Status, ...] = ()
    texts: tuple[str, ...] = ()
    when: Condition | None = None


class QuotaPatterns(ErrorPatterns, frozen=True, kw_only=True):
    """The same of answers that say that what may be sent in a day or a month is used up.

    Attributes:
        renewed: when there is more: with the next hour, day or month in UTC, where the answer does
            not say after which time to ask again.
    """

    renewed: Literal["hour", "day", "month"] = "day"


class ErrorRules(Table, frozen=True, kw_only=True):
    """`errors`: how the service's errors are known, where HTTP's own statuses do not say.

    Attributes:
        message: where the service's own words are.
        when: a condition that holds for answers of status 2xx that are errors all the same.
        retry_after: where any answer says after which time to ask again, besides the header
            `Retry-After`.
        retry_after_unit: of that.
    """

    message: Take | None = None
    when: Condition | None = None
    retry_after: Take | None = None
    retry_after_unit: Literal["s", "ms"] = "s"
    refused: ErrorPatterns = ErrorPatterns()
    slow_down: ErrorPatterns = ErrorPatterns()
    quota: QuotaPatterns = QuotaPatterns()
    too_big: ErrorPatterns = ErrorPatterns()
    format_refused: ErrorPatterns = ErrorPatterns()
    bad_request: ErrorPatterns = ErrorPatterns()
    engine_broke: ErrorPatterns = ErrorPatterns()
    no_speech: ErrorPatterns = ErrorPatterns()


class ServiceCard(Table, frozen=True, kw_only=True, dict=True):
    """What a card of any service may say. `name` is the table's own name (and its profile's), not a
    key in it.

    Attributes:
        about: a line for people.
        url: where the service is; a template.
        secrets: where its keys are kept.
        values: more placeholders, such as an account or a region.
        account: the name of an account whose answers are not those of another one, such as one for
            tests; a part of what a request is known by.
        every: what goes with every request.
        sign: signatures.
        login, token: what all requests need; at most one of them.
        send: the exchange, if it is one request.
        steps: the exchange, if it is several, in order.
        lookup: asks whether a request that may have been lost has become a job; what `take` finds
            is what the step that started it would have given. It is asked with the same
            `{request_id}` that went with the request.
        cancel: how a job that is not wanted any more is called off.
        errors: how its errors are known.
    """

    name: str
    about: str = ""
    url: Template | None = None
    secrets: dict[str, SecretSource] = {}  # noqa: RUF012 - msgspec copies it
    values: dict[str, Template] = {}  # noqa: RUF012 - msgspec copies it
    account: str | None = None
    every: Every = Every()
    sign: dict[str, Signature] = {}  # noqa: RUF012 - msgspec copies it
    login: Login | None = None
    token: TokenGrant | None = None
    send: Step | None = None
    steps: dict[str, Step] = {}  # noqa: RUF012 - msgspec copies it
    lookup: Step | None = None
    cancel: Cancel | None = None
    errors: ErrorRules = ErrorRules()

    @cached_property
    def sequence(self) -> tuple[tuple[str, Step], ...]:
        """The steps of the exchange, with their names, in order."""
        if self.send is not None:
            return (("send", self.send),)
        return tuple(self.steps.items())

    @cached_property
    def session(self) -> Login | None:
        """What all requests need, in its general form."""
        if self.token is None:
            return self.login
        return _credentials_grant(self.token)

    @property
    def session_name(self) -> str:
        """The name of the table that it comes from."""
        if self.token is None:
            return "login"
        return "token"


def _credentials_grant(token: TokenGrant) -> Login:
    """The client-credentials grant (RFC 6749, 4.4.2) as a login."""
    fields = {"grant_type": "client_credentials"}
    # An empty scope would ask for none, where its absence asks for the usual ones.
    if token.scope.source:
        fields["scope"] = token.scope.source
    basic = None
    if token.sent_as == "basic":
        # RFC 6749, 2.3.1: id and secret are encoded as form fields are before they are joined.
        basic = Template(f"{token.client.quoted_source}:{token.secret.quoted_source}")
    else:
        fields |= {"client_id": token.client.source, "client_secret": token.secret.source}
    return Login(
        url=token.url,
        headers={"Accept": ListTemplate("application/json")},
        basic=basic,
        urlencoded={name: ListTemplate(value) for name, value in fields.items()},
        take={"token": Take("access_token", secret=True)},
        expires_in=Take("expires_in", optional=True),
        # Where no answer says how long it lasts: shorter than any service's, and long enough to
        # share.
        lifetime=Seconds(300),
        timeout=Seconds(30),
    )
