"""In which order the steps of a card come, and which of them does what."""

from functools import cached_property
from itertools import chain

from mantisreed.cards.card import ServiceCard
from mantisreed.cards.filters import as_bytes
from mantisreed.cards.steps import Step
from mantisreed.cards.templates import Template


class StepSequence:
    """The steps of one card's exchange.

    Attributes:
        steps: those that lead to the reply, with their names, in order.
        cleanup: those that tidy up afterwards.
        first_work, last_work: indices of the first and the last step that may make the service
            work, and so cost.
    """

    def __init__(self, card: ServiceCard) -> None:
        self._card = card
        self.steps = tuple((name, step) for name, step in card.sequence if not step.cleanup)
        self.cleanup = tuple((name, step) for name, step in card.sequence if step.cleanup)
        working = self._working()
        self.first_work, self.last_work = working[0], working[-1]

    def _working(self) -> list[int]:
        """Indices of the steps that make the service work.

        They are as the card says, or the last that changes something before the last that asks.
        Alternatives to it, which are done on a condition, count too.
        """
        said = [index for index, (_, step) in enumerate(self.steps) if step.starts_work]
        if said:
            return said
        # Without a word of the card: the last request that changes something before the last one
        # that asks.
        asking = [index for index, (_, step) in enumerate(self.steps) if step.is_asking]
        if asking:
            before = range(asking[-1])
        else:
            before = range(len(self.steps))
        changing = [index for index in before if self._changes_something(self.steps[index][1])]
        if not changing:
            return [0]
        # Variants of one step, of which `when` chooses, start the work together.
        last = first = changing[-1]
        while self.steps[last][1].when and first - 1 in changing and self.steps[first - 1][1].when:
            first -= 1
        return list(range(first, last + 1))

    @staticmethod
    def _changes_something(step: Step) -> bool:
        is_left_out = step.is_asking or step.starts_work is False
        return not is_left_out and (step.verb not in ("GET", "HEAD") or step.websocket is not None)

    @property
    def is_answered_at_once(self) -> bool:
        """Whether nothing comes after the step that makes the service work."""
        return self.last_work == len(self.steps) - 1

    @cached_property
    def asking(self) -> Step | None:
        """The step that is repeated until the job is done, of several the last; None when there is
        none.
        """
        return next((step for _, step in reversed(self.steps) if step.is_asking), None)

    @cached_property
    def chunk_size(self) -> int | None:
        """Bytes of each chunk of the audio; None without chunks, or where an answer says it."""
        sizes = (step.chunks.size for _, step in self.steps if step.chunks is not None)
        return next((size.fixed for size in sizes if size is not None), None)

    def index_of(self, name: str) -> int:
        """Where a step is.

        Raises:
            KeyError: there is none of that name.
        """
        for index, (known, _) in enumerate(self.steps):
            if known == name:
                return index
        raise KeyError(name)

    @cached_property
    def taken(self) -> frozenset[str]:
        """All that any step takes from its answer."""
        return frozenset(
            chain.from_iterable(taken_by(step) for _, step in (*self.steps, *self.cleanup))
        )

    @cached_property
    def hidden(self) -> frozenset[str]:
        """What of it is a secret."""
        hidden: set[str] = set()
        for _, step in (*self.steps, *self.cleanup):
            hidden |= {name for name, take in step.take.items() if take.hides(name)}
        return frozenset(hidden)

    @cached_property
    def links(self) -> frozenset[str]:
        """Values that begin a URL, so that they may be links."""
        steps = [step for _, step in (*self.steps, *self.cleanup)] + [
            step for step in (self._card.cancel,) if step
        ]
        # Only those that begin with a value lead where an answer says.
        urls = [
            step.url for step in steps if step.url is not None and step.url.source.startswith("{")
        ]
        return frozenset(template.names[0] for template in urls if template.names)

    def steps_that_hide(self) -> list[tuple[str, Step]]:
        """Steps that give secrets and can be made again: they come before the work, and do not
        bring the audio.
        """
        return [
            (name, step)
            for name, step in self.steps[: self.first_work]
            if any(take.hides(key) for key, take in step.take.items()) and not audio_names(step)
        ]

    def needed_from(self, index: int) -> frozenset[str]:
        """What the steps from this one on need and do not take themselves, with cleaning up and
        calling off.
        """
        needed: set[str] = set()
        known: set[str] = set()
        for _, step in (*self.steps[index:], *self.cleanup):
            needed |= self.names_of(step) - known
            known |= set(taken_by(step))
        if self._card.cancel is not None:
            needed |= self.names_of(self._card.cancel)
        return frozenset(needed)

    def names_of(self, step: Step) -> frozenset[str]:
        """What a step needs, also by the card's URL, values, signatures and what goes with every
        request.
        """
        every = self._card.every
        fields = chain(every.headers.values(), every.query.values())
        templates = list(chain.from_iterable(field.items for field in fields))
        templates += [
            template
            for template in (every.bearer, every.basic, self._card.url)
            if template is not None
        ]
        names = set(step.names) | set(chain.from_iterable(template.names for template in templates))
        if step.chunks is not None and step.chunks.resume is not None:
            names |= step.chunks.resume.names
        if step.chunks is not None and step.chunks.size is not None:
            names |= set(step.chunks.size.names)
        # What the parts themselves give is there when the list of them is made.
        if step.chunks is not None and step.chunks.item is not None:
            names |= set(step.chunks.item.names) - {*step.chunks.collect, *OF_A_CHUNK}
        rest, found = list(names), set()
        while rest:
            name = rest.pop()
            if name in found:
                continue
            found.add(name)
            if name in self._card.values:
                rest += self._card.values[name].names
            if name in self._card.sign:
                rest += (*self._card.sign[name].key.names, *self._card.sign[name].text.names)
        return frozenset(found)


def taken_by(step: Step) -> tuple[str, ...]:
    """The names of what a step takes from its answers."""
    if step.chunks is None:
        return tuple(step.take)
    return (*step.take, *step.chunks.collect, *(("chunk_items",) if step.chunks.item else ()))


OF_A_CHUNK = ("chunk", "chunk_number", "chunk_count", "is_last", "chunk_start", "chunk_end")
"""The placeholders that a step with chunks has; a conversation has the first four."""


def audio_names(step: Step) -> list[str]:
    """By which placeholders a step brings the audio itself, rather than facts about it."""
    found = [template.names[0] for template in step.templates if _brings_audio(template)]
    is_streamed = step.websocket is not None or step.chunks is not None
    if is_streamed:
        return ["audio"]
    return found


def _brings_audio(template: Template) -> bool:
    """Whether a template holds the bytes or the link, and not only a digest or the size of them."""
    if "recording_url" in template.names:
        return True
    if "audio" not in template.names:
        return False
    others = dict.fromkeys(template.names, "1")
    try:
        # A digest or a size of the sound is as long for any sound.
        short, long = (template.value({**others, "audio": b"1" * size}) for size in (64, 4096))
    except (ValueError, TypeError):
        return False
    return len(as_bytes(long)) > len(as_bytes(short)) + 8
