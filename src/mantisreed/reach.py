"""What each key of the settings can reach, declared once: a key without one fails a test.

`trust.py` asks for whatever a key reaches of its user's: where recordings, transcripts and texts
go, which secrets are read, which programs start, where is written.
"""

from collections.abc import Mapping
from typing import Literal

Reach = Literal[
    "host", "mail address", "secret", "program", "object", "database", "folder", "file", "port"
]

_STEP = {"path": "host", "url": "host", "keys": "host", "follow_redirects": "host"}
_PAGES = {"next_url": "host"}

REACHING: Mapping[str, Mapping[str, str]] = {
    "Settings": {
        "into": "folder",
        "strong_words_file": "file",
        "replace": "file",
        "redact_names": "file",
    },
    "Links": {"public": "port", "listen": "port"},
    "Callbacks": {"public": "port", "listen": "port"},
    "ServeKeys": {"webhook_secret": "secret", "test_webhook_secret": "secret"},
    "LedgerPlace": {"url": "database", "password": "secret"},
    "StoragePlace": {"url": "host"},
    "EngineCard": {"url": "host", "secrets": "secret", "values": "host"},
    "TextServiceCard": {"url": "host", "secrets": "secret", "values": "host"},
    "Step": _STEP,
    "Login": {**_STEP, "replaces": "secret"},
    "Cancel": _STEP,
    "LanguageList": _STEP,
    "Pages": _PAGES,
    "TokenGrant": {"url": "host"},
    "Callback": {"secret": "secret"},
    "Command": {"run": "program", "environment": "program"},
    "PythonObject": {"object": "object"},
    "Program": {"run": "program", "environment": "program", "secrets": "secret"},
    "Mail": {"server": "host", "password": "secret", "to": "mail address"},
    "Webhook": {"to": "host", "secret": "secret"},
    "Copy": {"to": "folder"},
    "Rows": {"file": "file", "database": "database", "password": "secret"},
}
"""Keys that reach something of the user's, by the tables they stand in."""

_ASKED = (
    "method when headers query bearer basic form multipart json urlencoded raw content_type gzip "
    "timeout ok_statuses take state waiting done failed waiting_when done_when failed_when "
    "waiting_statuses done_statuses failed_statuses reason interval max_interval limit starts_work "
    "cleanup pages chunks websocket"
)
_SERVICE = (
    "name about account every sign login token send steps lookup cancel errors reply accepts "
    "price rate_limit max_concurrent"
)
_TIMES = "start end length times length_times each speaker"

_NOTHING = {
    "Settings": "engine language to hints max_attempts layout strong_words redact",
    "Links": "",
    "Callbacks": "",
    "ServeKeys": "",
    "LedgerPlace": "",
    "StoragePlace": "cache",
    "EngineCard": f"{_SERVICE} billed batch callback command python",
    "TextServiceCard": f"{_SERVICE} languages item",
    "Step": _ASKED,
    "Login": f"{_ASKED} expires_in expires_at lifetime",
    "Cancel": _ASKED,
    "LanguageList": f"{_ASKED} reads writes",
    "Pages": "next_token items first more limit",
    "Every": "headers query bearer basic digest",
    "Signature": "key text hash encoding",
    "Chunks": "size received resume collect item",
    "WebSocket": "subprotocol first ready audio chunk speed last last_binary partial final error "
    "end partial_text",
    "TokenGrant": "client secret scope sent_as",
    "ErrorRules": "message when retry_after retry_after_unit refused quota slow_down too_big "
    "format_refused bad_request engine_broke no_speech",
    "ErrorPatterns": "statuses texts when",
    "QuotaPatterns": "statuses texts when renewed",
    "Reply": "format inside file text is_whole_text only event key end_mark complete delimiter "
    "columns language times zero confidence_scale tracks passages words turns speakers",
    "TrackPaths": "each speaker",
    "PassagePaths": f"{_TIMES} text alternatives confidence",
    "WordPaths": f"{_TIMES} text confidence zero kind punctuation events ignored event_pattern "
    "text_from text_to text_length tokens",
    "TokenMarks": "begin_mark continue_mark end_mark more_mark begins continues",
    "TurnPaths": _TIMES,
    "SpeakerNames": "each id name",
    "Accepts": "formats format_names sample_rate max_bytes max_duration languages cut_when_late",
    "Price": "per_minute currency billing_step",
    "RateLimit": "requests window",
    "Billed": "seconds cost times",
    "BatchedJobs": "step item key size wait results reply failed_when reason",
    "Callback": "brings",
    "Command": "audio reply timeout",
    "PythonObject": "timeout",
    "TextReply": "format inside text texts data sound sound_format is_html",
    "TextLimits": "max_characters max_tokens languages targets",
    "TextPrice": "per_thousand_characters currency",
    "TextRateLimit": "requests window",
    "FollowUp": "name needs when only_if service target to bilingual back reduce command mail "
    "webhook copy rows max_attempts",
    "Program": "stdin result timeout",
    "Mail": "user sender subject body attach each",
    "Webhook": "send headers timeout",
    "Copy": "files",
    "Rows": "table columns",
    "LayoutRules": "line_length lines max_cps max_wpm shortest longest gap linger flicker "
    "frame_rate longest_pause speakers sounds by_language",
}

REACHING_NOTHING: Mapping[str, frozenset[str]] = {
    table: frozenset(keys.split()) for table, keys in _NOTHING.items()
}
"""Keys that reach nothing by themselves: what they hold goes where the others lead."""
