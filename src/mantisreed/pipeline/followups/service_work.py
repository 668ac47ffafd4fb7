"""What text services do with one recording: translate it, judge it, sum it up, read it aloud."""

import asyncio
import json
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mantisreed.errors import BadRequestError, InputError
from mantisreed.exports.formats import chosen_formats
from mantisreed.pipeline.followups.service_desk import ServiceDesk
from mantisreed.pipeline.followups.translating import check_table, in_two_languages, translated
from mantisreed.pipeline.outputs import Outputs
from mantisreed.pipeline.results import FinishedRecording, Result, Tally
from mantisreed.services.card import TextServiceCard
from mantisreed.services.client import Question, language_named, read_data, read_sound, read_texts
from mantisreed.services.cutting import groups_of, parts_of
from mantisreed.transcript.document import Transcript, to_json
from mantisreed.workspace import Workspace

if TYPE_CHECKING:
    from mantisreed.destinations.rules import FollowUp

_MOST_ROUNDS = (
    8  # of results that are put together again; each is shorter than the one before, or it ends
)


@dataclass(frozen=True, slots=True)
class ServiceWork:
    """The work of one follow-up on one recording.

    Attributes:
        workspace: with the services.
        desk: where they are asked.
        outputs: where files go.
        rule: the follow-up.
        rules: all of them.
        finished: the recording.
        tally: to count in.
    """

    workspace: Workspace
    desk: ServiceDesk
    outputs: Outputs
    rule: "FollowUp"
    rules: "Mapping[str, FollowUp]"
    finished: FinishedRecording
    tally: Tally

    @property
    def _ending(self) -> str:
        """What its translations are called: by their language, or by the follow-up where several
        are in one.
        """
        rule, rules = self.rule, self.rules.values()
        alike = [other for other in rules if other.to and other.target == rule.target]
        if rule.target and len(alike) <= 1:
            return rule.target
        return rule.name

    async def done(self, given: Any) -> Result:
        """What the service makes of something.

        Args:
            given: a transcript, a text, or a table.

        Raises:
            EngineError: it has no answer.
            InputError: it cannot be asked for that.
            OutputError: what it gave cannot be written.
        """
        card = self.workspace.service(self.rule.service or "")
        if isinstance(given, Transcript) and self.rule.to:
            return await self._translation(card, given)
        if isinstance(given, Transcript):
            texts, language = [passage.text for passage in given.passages], given.language
        else:
            texts = [given if isinstance(given, str) else json.dumps(given, ensure_ascii=False)]
            language = None
        # Nobody pays for blanks.
        texts = [text for text in texts if text.strip()]
        if not texts:
            return await self._kept(_empty_result(card))
        if card.kind == "data":
            return await self._kept(await self._data(card, texts, language))
        if card.kind == "sound":
            return await self._sound(card, texts, language)
        return await self._kept(await self._text(card, texts, language))

    async def _translation(self, card: TextServiceCard, transcript: Transcript) -> Result:
        texts = await self._texts(
            card, [one.text for one in transcript.passages], transcript.language
        )
        target = self.rule.target or transcript.language
        made = translated(transcript, texts, self.rule.target, card.name)
        result = Result("transcript", made, to_json(made))
        files = list(await asyncio.to_thread(self.written, result))
        if self.rule.back:
            back = self.workspace.service(self.rule.back)
            again = await self._texts(back, texts, target, wanted=transcript.language)
            table = check_table(transcript, texts, again)
            name = f"{self.finished.stem}.{self._ending}.check.csv"
            files.append(
                await asyncio.to_thread(self.outputs.write_file, name, table, self.finished.source)
            )
        return Result("transcript", made, result.body, tuple(files))

    async def _texts(
        self,
        card: TextServiceCard,
        texts: Sequence[str],
        language: str | None,
        wanted: str | None = None,
    ) -> list[str]:
        """The translations of passages, one for each: several in one request where the service
        takes them.
        """
        spoken = [text for text in texts if text.strip()]
        target = wanted or self.rule.target
        if card.takes_passages:
            groups = groups_of(spoken, card.accepts.fits)
        else:
            groups = [[text] for text in spoken]
        asked: list[list[str]] = []
        parts: list[int] = []
        for group in groups:
            # A single passage over the cap goes in parts; what came is put together again.
            if len(group) == 1:
                pieces = [[one] for one in parts_of(group, card.accepts.fits)]
            else:
                pieces = [group]
            asked += pieces
            parts.append(len(pieces))
        questions = [self._question(card, tuple(one), language, target) for one in asked]
        answers = await self._answers(card, questions)
        came = [read_texts(card, body, one) for body, one in zip(answers, questions, strict=True)]
        found: list[str] = []
        for group, count in zip(groups, parts, strict=True):
            taken, came = came[:count], came[count:]
            if len(group) > 1:
                found += taken[0]
            else:
                found += [" ".join(one[0] for one in taken)]
        # Passages without text have none in the other language.
        waiting = iter(found)
        return [next(waiting) if text.strip() else "" for text in texts]

    def _question(
        self,
        card: TextServiceCard,
        texts: tuple[str, ...],
        language: str | None,
        target: str | None,
    ) -> Question:
        named = language_named(card, language)
        return Question(texts, named, language_named(card, target, is_target=True))

    async def _answers(self, card: TextServiceCard, questions: list[Question]) -> list[bytes]:
        return await self.desk.answers(
            card, questions, self.finished.known_by, self.tally, self.rule.max_attempts
        )

    async def _parts(
        self, card: TextServiceCard, texts: Sequence[str], language: str | None
    ) -> list[Question]:
        parts = parts_of(texts, card.accepts.fits)
        if any(not card.accepts.fits(part) for part in parts):
            raise BadRequestError(
                "a part of the text is longer than the service takes", engine=card.name
            )
        return [self._question(card, (part,), language, self.rule.target) for part in parts]

    async def _text(
        self, card: TextServiceCard, texts: Sequence[str], language: str | None
    ) -> Result:
        for _ in range(_MOST_ROUNDS):
            questions = await self._parts(card, texts, language)
            answers = await self._answers(card, questions)
            came = [
                read_texts(card, body, one)[0] for body, one in zip(answers, questions, strict=True)
            ]
            is_shorter = sum(map(len, came)) < sum(map(len, texts))
            # What is not shorter would never come to an end.
            if len(came) == 1 or not self.rule.reduce or not is_shorter:
                break
            texts, language = came, self.rule.target or language
        text = "\n\n".join(came)
        return Result("text", text, text.encode("utf-8", "replace"))

    async def _data(
        self, card: TextServiceCard, texts: Sequence[str], language: str | None
    ) -> Result:
        questions = await self._parts(card, texts, language)
        answers = await self._answers(card, questions)
        came = [read_data(card, body) for body in answers]
        value = merged(came, [question.characters for question in questions])
        return Result(
            "data", value, json.dumps(value, ensure_ascii=False).encode("utf-8", "replace")
        )

    async def _sound(
        self, card: TextServiceCard, texts: Sequence[str], language: str | None
    ) -> Result:
        questions = await self._parts(card, texts, language)
        answers = await self._answers(card, questions)
        sounds = [read_sound(card, body) for body in answers]
        files = []
        for number, sound in enumerate(sounds, 1):
            if len(sounds) == 1:
                end = ""
            else:
                end = f"-{number}"
            name = f"{self.finished.stem}.{self.rule.name}{end}.{card.sound_format}"
            files.append(
                await asyncio.to_thread(self.outputs.write_file, name, sound, self.finished.source)
            )
        return Result("sound", None, sounds[0], tuple(files))

    async def _kept(self, result: Result) -> Result:
        return replace(result, files=await asyncio.to_thread(self.written, result))

    def written(self, result: Result) -> tuple[Path, ...]:
        """Write the files of a result; what a service said is in it, so that it need not be asked.

        Raises:
            OutputError: one cannot be written.
        """
        stem, source, name = self.finished.stem, self.finished.source, self.rule.name
        if isinstance(result.value, Transcript):
            return self._written_translation(result.value)
        if result.kind == "text":
            content = f"{result.value}\n".encode("utf-8", "replace")
            return (self.outputs.write_file(f"{stem}.{name}.txt", content, source),)
        if result.kind == "data":
            content = (
                json.dumps(result.value, ensure_ascii=False, indent=1).encode("utf-8", "replace")
                + b"\n"
            )
            return (self.outputs.write_file(f"{stem}.{name}.json", content, source),)
        if result.kind == "sound" and len(result.files) == 1 and result.body is not None:
            return (self.outputs.write_file(result.files[0].name, result.body, source),)
        return result.files

    def _written_translation(self, made: Transcript) -> tuple[Path, ...]:
        stem, source, rule = self.finished.stem, self.finished.source, self.rule
        outputs = self.outputs.with_formats(chosen_formats(rule.to))
        # A translation has a stem of its own, which others may have already.
        own = outputs.stem_called(f"{stem}.{self._ending}", source.key)
        files = list(outputs.write(own, source, made).files)
        original = self.finished.transcript
        if rule.bilingual and original is not None:
            script = in_two_languages(original, made, outputs.options.rules)
            both = f"{stem}.{original.language or 'original'}-{self._ending}"
            subtitles = outputs.with_formats(
                [form for form in chosen_formats(rule.to) if form.name != "json"]
            )
            if subtitles.names:
                files += subtitles.write_script(both, source, script).files
        return tuple(files)


def _empty_result(card: TextServiceCard) -> Result:
    """What is made of nothing: nobody is asked, and nothing is paid."""
    if card.kind == "data":
        return Result("data", dict.fromkeys(card.reply.data), b"{}")
    if card.kind == "sound":
        raise InputError("there is no text to be read aloud", where=card.name)
    return Result("text", "", b"")


def merged(parts: Sequence[dict[str, Any]], weights: Sequence[int]) -> dict[str, Any]:
    """The fields of several parts of a text as one.

    Numbers are averaged by length, lists put together, and of anything else counts what holds for
    most of the text.
    """
    if len(parts) == 1:
        return dict(parts[0])
    whole: dict[str, Any] = {}
    for name in parts[0]:
        found = [
            (part[name], weight)
            for part, weight in zip(parts, weights, strict=True)
            if part[name] is not None
        ]
        whole[name] = _merged_values(found) if found else None
    return whole


def _merged_values(found: Sequence[tuple[Any, int]]) -> Any:
    """One value of those of the parts, each with the length of its part."""
    values = [value for value, _ in found]
    if all(isinstance(value, (int, float)) and not isinstance(value, bool) for value in values):
        # By length: a long part says more of the whole.
        total = sum(weight for _, weight in found)
        return sum(value * weight for value, weight in found) / (total or 1)
    if all(isinstance(value, list) for value in values):
        together = chain.from_iterable(values)
        # Each once, in order.
        return list({json.dumps(one, sort_keys=True): one for one in together}.values())
    counts: Counter[str] = Counter()
    for value, weight in found:
        counts[json.dumps(value, sort_keys=True)] += weight
    # What most of the text says.
    return json.loads(counts.most_common(1)[0][0])
