"""Knowing an engine's calls from forged ones, by the open scheme of Standard Webhooks.

https://github.com/standard-webhooks/standard-webhooks: the headers `webhook-id`,
`webhook-timestamp` and `webhook-signature` (space-separated `v1,BASE64`), an HMAC-SHA256 over
`ID.TIMESTAMP.BODY`.
"""

import base64
import binascii
import hmac
from collections.abc import Mapping

from mantisreed.secrets import Secret

TOLERANCE = 300.0
"""Seconds that a call's time may be off, in both directions."""

_PREFIX = "whsec_"


def is_genuine(secret: Secret, headers: Mapping[str, str], body: bytes, now: float) -> bool:
    """Whether a call was signed with this secret, a short while ago.

    Args:
        secret: base64, with or without `whsec_` before it.
        headers: of the call, names in lower case.
        body: of the call, to the byte.
        now: seconds since 1970.
    """
    call, moment = headers.get("webhook-id", ""), headers.get("webhook-timestamp", "")
    if (
        not call
        or not (moment.isascii() and moment.isdecimal())
        or abs(now - int(moment)) > TOLERANCE
    ):
        return False
    try:
        key = base64.b64decode(secret.reveal().removeprefix(_PREFIX), validate=True)
    except binascii.Error:
        return False
    expected = base64.b64encode(hmac.digest(key, f"{call}.{moment}.".encode() + body, "sha256"))
    given = headers.get("webhook-signature", "").encode().split()
    # A sender that changes its key signs with both for a while.
    return any(
        hmac.compare_digest(signature.removeprefix(b"v1,"), expected)
        for signature in given
        if signature.startswith(b"v1,")
    )
