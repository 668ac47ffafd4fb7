"""Secrets that each login replaces: refresh tokens that are good for one time."""

import asyncio
import logging
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import ExitStack, asynccontextmanager
from functools import partial
from typing import TypeVar

from mantisreed.cards.paths import Take
from mantisreed.cards.wire.http_answer import HttpAnswer
from mantisreed.cards.wire.kept_secrets import KeptSecret
from mantisreed.errors import RefusedError, SecretError
from mantisreed.secrets import Secret

_log = logging.getLogger(__name__)

_Result = TypeVar("_Result")


class ReplacedSecrets:
    """The secrets that one login replaces."""

    def __init__(
        self, engine: str, takes: Mapping[str, Take], secrets: Mapping[str, Secret]
    ) -> None:
        """Read nothing yet.

        Args:
            engine: the card's name, for messages.
            takes: where the new ones are in the answer, by the secrets' names.
            secrets: all of the card's, as they are known now.
        """
        self._engine, self._takes = engine, takes
        self._kept: dict[str, KeptSecret] = {}
        for name in takes:
            kept = KeptSecret.of(secrets[name]) if name in secrets else None
            if kept is not None:
                self._kept[name] = kept

    @asynccontextmanager
    async def held(self) -> AsyncIterator[None]:
        """Keep other processes from logging in meanwhile.

        Raises:
            RefusedError: they do for too long.
        """
        with ExitStack() as stack:
            # In order of their names: two processes that take them otherwise wait for each other.
            for name in sorted(self._kept):
                await self._attempted(partial(stack.enter_context, self._kept[name].held()))
            yield

    async def newest(self) -> dict[str, Secret]:
        """The secrets as they are now: another process may have replaced them.

        Raises:
            RefusedError: one of them is not there any more.
        """
        return {name: await self._attempted(kept.read) for name, kept in self._kept.items()}

    async def replaced_by(self, answer: HttpAnswer) -> dict[str, Secret]:
        """Put the new ones where the old ones were kept; those that the answer gives."""
        new: dict[str, Secret] = {}
        for name, kept in self._kept.items():
            value = self._takes[name].find(answer)
            if value in (None, ""):
                continue  # some services only give a new one now and then
            new[name] = Secret(str(value))
            try:
                await asyncio.to_thread(kept.replace, str(value))
            except SecretError as error:
                # This process has it, and goes on; the next one has to be given a new one.
                _log.warning("%s: secret %s: %s", self._engine, name, error)
            else:
                # From where it was put, so that it knows its place when it is replaced again.
                new[name] = await self._attempted(kept.read)
        return new

    async def _attempted(self, do: Callable[[], _Result]) -> _Result:
        try:
            return await asyncio.to_thread(do)
        except SecretError as error:
            refused = RefusedError(str(error), engine=self._engine, advice=error.advice)
            refused.before_work = True
            raise refused from error
