"""Mail: a message for a recording or for a whole run, sent once."""

import hashlib
import mimetypes
from collections.abc import Sequence
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import formatdate
from typing import Any

from mantisreed.destinations.actions import Mail
from mantisreed.destinations.parcels import DeliveryError, Parcel
from mantisreed.errors import InputError, reason_of
from mantisreed.files import printable
from mantisreed.secrets import Secret
from mantisreed.transcript.writing import one_line
from mantisreed.urls import split_url

_TIMEOUT = 60.0  # seconds for each answer of the server
_LONGEST_SUBJECT = 200  # characters
_LARGEST = 20 << 20  # bytes of attachments; most servers refuse more
_LAYERS = 5  # of encoded words in encoded words that are undone
_ON_THIS_MACHINE = ("127.0.0.1", "::1", "localhost")


def message_for(mail: Mail, parcels: Sequence[Parcel], key: str) -> EmailMessage:
    """The mail about some recordings.

    Its id is made of the key, so that whoever gets it twice can tell.

    Raises:
        InputError: a file that is to be attached is not there, or they are too large.
    """
    message = EmailMessage()
    message["From"], message["To"] = mail.sender, ", ".join(mail.to)
    subject = one_line(parcels[0].filled(mail.subject)) if parcels else ""
    if len(parcels) > 1:
        subject = f"{subject} and {len(parcels) - 1} more"
    message["Subject"] = header_text(subject[:_LONGEST_SUBJECT])
    message["Date"] = formatdate()
    domain = mail.sender.rpartition("@")[2]
    message["Message-ID"] = f"<{hashlib.sha256(key.encode()).hexdigest()[:32]}@{domain}>"
    body = "\n\n".join(_body(mail, parcel) for parcel in parcels) + "\n"
    # A name on a disk may hold bytes that are no text.
    message.set_content(body.encode("utf-8", "replace").decode())
    size = 0
    for parcel in parcels:
        for file in parcel.chosen(mail.attach) if mail.attach else ():
            size += len(file.content)
            if size > _LARGEST:
                raise InputError(
                    f"the files to attach are larger than {_LARGEST >> 20} MB",
                    advice="attach fewer",
                )
            kind, _, form = (
                mimetypes.guess_type(file.name)[0] or "application/octet-stream"
            ).partition("/")
            # All texts that we write are UTF-8; whoever reads the mail would else take them for
            # ASCII.
            params = {"charset": "utf-8"} if kind == "text" else {}
            message.add_attachment(
                file.content,
                maintype=kind,
                subtype=form,
                filename=header_text(file.name),
                params=params,
            )
    return message


def header_text(text: str) -> str:
    """A text as a header may have it: one line, whatever is in it, also when whoever reads the mail
    has decoded the words in it that look like encoded ones (RFC 2047), again and again.
    """
    text = printable(text)
    for _ in range(_LAYERS):
        decoded = printable(str(SMTP.header_factory("Subject", text)))
        if decoded == text:
            break
        text = decoded
    # What is no encoded word to one reader may be one to another.
    return text.replace("=?", "= ?")


def _body(mail: Mail, parcel: Parcel) -> str:
    if mail.body is not None:
        return parcel.filled(mail.body).strip()
    facts = parcel.facts
    head = f"{facts.get('recording', '')}: {facts.get('state', '')}"
    return f"{head}\n\n{facts.get('text') or facts.get('error') or ''}".strip()


async def send_mail(
    mail: Mail, message: EmailMessage, recipient: str, password: Secret | None
) -> None:
    """Hand a message to the server, for one recipient.

    Raises:
        DeliveryError: the server did not take it, or nobody knows whether it did. `wants_later`
            where it asks to come back later (a reply of 4xx, RFC 5321, 4.2.1).
    """
    import aiosmtplib

    server = split_url(mail.server)
    where = f"{server.hostname}"
    is_secure = server.scheme == "smtps"
    port = server.port or (465 if is_secure else 587)
    # On this machine nobody listens in between, and certificates are home-made: TLS is used if the
    # server wants it.
    is_near = server.hostname in _ON_THIS_MACHINE
    starts_tls = None if is_near and not is_secure else not is_secure
    given: dict[str, Any] = (
        {} if password is None else {"username": mail.user, "password": password.reveal()}
    )
    is_sending = False
    try:
        client = aiosmtplib.SMTP(
            hostname=server.hostname,
            port=port,
            timeout=_TIMEOUT,
            use_tls=is_secure,
            start_tls=starts_tls,
            validate_certs=not is_near,
            **given,
        )
        async with client:
            is_sending = True
            await client.send_message(message, recipients=[recipient])
    except aiosmtplib.SMTPRecipientsRefused as error:
        refusal = error.recipients[0]
        raise DeliveryError(
            f"{recipient} is refused ({refusal.code} {one_line(refusal.message)})",
            where=where,
            advice="check `to`" if refusal.code >= 500 else "`mantisreed retry` sends it later",
            wants_later=refusal.code < 500,
        ) from error
    except aiosmtplib.SMTPAuthenticationError as error:
        raise DeliveryError("the server refuses this user or password", where=where) from error
    except aiosmtplib.SMTPResponseException as error:
        is_for_now = 400 <= error.code < 500
        what = f"the server refuses it ({error.code} {one_line(error.message)})"
        raise DeliveryError(what, where=where, wants_later=is_for_now) from error
    except (aiosmtplib.SMTPException, OSError, TimeoutError) as error:
        # Once the message may be on its way, nobody knows whether the server has taken it.
        what = f"the mail server cannot be reached ({reason_of(error)})"
        raise DeliveryError(
            what, where=where, may_pass=not is_sending, may_be_there=is_sending
        ) from error
