"""One exchange on its way."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from mantisreed.cards.bodies import Attachment
from mantisreed.cards.paths import Take
from mantisreed.cards.templates import Template, Value
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.errors import UnreadableReplyError


@dataclass(slots=True)
class ExchangeRun:
    """An exchange on its way: all that is known so far, secrets among it.

    Attributes:
        values: what placeholders stand for.
        attachment: the audio; None when it is not needed any more.
        taken: names of values that an answer gave.
        bases: the URLs of the requests whose answers gave them.
        noted: what was noted.
        index: of the next step.
        failed_at: the step at which it has failed before.
        last: the newest answer.
    """

    values: dict[str, Value] = field(repr=False)
    attachment: Attachment | None = None
    taken: set[str] = field(default_factory=set)
    bases: dict[str, str] = field(default_factory=dict, repr=False)
    noted: dict[str, Value] = field(default_factory=dict)
    index: int = 0
    failed_at: int | None = None
    last: HttpAnswer | None = None

    def list_in(self, template: Template) -> str:
        """The name of a placeholder in a template that stands for a list; empty for none."""
        lists = (name for name in template.names if isinstance(self.values.get(name), list))
        return next((name for name in lists if self.values[name]), "")

    def take(self, engine: str, name: str, takes: Mapping[str, Take], answer: HttpAnswer) -> None:
        """Take what a step takes from its answer.

        Raises:
            UnreadableReplyError: something is not there.
        """
        for key, take in takes.items():
            value = take.find(answer)
            if value is None and not take.is_optional:
                raise UnreadableReplyError(
                    f"{name}.take.{key} ({take}) finds nothing in the answer",
                    engine=engine,
                    status=answer.status,
                )
            self.values[key] = value
            self.taken.add(key)
            # A link in an answer is relative to where the answer came from.
            self.bases[key] = answer.url
