"""Events as they are told, and who hears them."""

import asyncio
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from mantisreed.jobs.ledger import Ledger
from mantisreed.jobs.writer import LedgerWriter
from mantisreed.serving import feed, tokens
from mantisreed.serving.access import Access
from mantisreed.serving.feed import Feed
from mantisreed.serving.orders import Order
from mantisreed.serving.tokens import OWNER, KnownTokens, Limits, TokenStore


def heard(
    feed_: Feed, told: list[Order], *, is_welcome: list[bool], waits: float = 0.0
) -> list[bytes]:
    """What a listener hears who is welcome for as many events as say so."""

    async def go() -> list[bytes]:
        events = []
        stream = feed_.stream(
            lambda order: order.owner == "hut",
            [],
            ends_with_job=False,
            is_welcome=lambda: is_welcome.pop(0),
        )
        async for event in stream:
            events.append(event)
            if told:
                feed_.tell(told.pop(0))
            await asyncio.sleep(waits)
        return events

    return asyncio.run(asyncio.wait_for(go(), 10))


def test_who_is_not_welcome_any_more_hears_nothing_of_what_happens(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    orders = [Order(id=str(number), owner="hut", name="round.wav") for number in range(3)]
    events = heard(Feed(lambda order, prefix: order.id), list(orders), is_welcome=[True, False])
    assert events == [b"retry: 2000\n\n", b'id: 1\nevent: job\ndata: "0"\n\n']
    # Where nothing happens that would be theirs they are shown out all the same.
    monkeypatch.setattr(feed, "_HEARTBEAT", 0.05)
    events = heard(Feed(lambda order, prefix: order.id), [], is_welcome=[True, False])
    assert events == [b"retry: 2000\n\n", b": still here\n\n"]


def test_a_token_is_known_until_it_is_revoked(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    async def go() -> None:
        writer = LedgerWriter(lambda: Ledger(tmp_path))
        known = KnownTokens(writer)
        access = Access(known, is_open=True)
        assert access.knows(OWNER)
        with closing(Ledger(tmp_path)) as ledger:
            secret = TokenStore(ledger).make("hut", ["read"], Limits())
            await known.freshen()
            token = known.token_of(secret)
            assert token is not None and access.knows(token) and not access.knows(OWNER)
            TokenStore(ledger).revoke("hut")
        monkeypatch.setattr(tokens, "_FRESH", 0.0)
        await known.freshen()
        assert not access.knows(token)
        writer.close()

    asyncio.run(go())


def test_a_token_counts_as_soon_as_it_is_made(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(tokens, "_FRESH", 3600.0)  # what was read would count for the whole test

    async def go() -> None:
        writer = LedgerWriter(lambda: Ledger(tmp_path))
        known = KnownTokens(writer)
        await known.freshen()
        with closing(Ledger(tmp_path)) as ledger:
            first = TokenStore(ledger).make("hut", ["read"], Limits())
            await known.freshen(first)
            assert known.token_of(first) is not None
            # A reading that began before the second one was made does not count for it.
            began, go_on = asyncio.Event(), asyncio.Event()
            perform = writer.perform

            async def slowly(step: Callable[[Ledger], object]) -> object:
                answer = await perform(step)
                began.set()
                await go_on.wait()
                return answer

            monkeypatch.setattr(writer, "perform", slowly)
            early = asyncio.create_task(known.freshen("mr_unknown"))
            await began.wait()
            second = TokenStore(ledger).make("boat", ["read"], Limits())
            late = asyncio.create_task(known.freshen(second))
            await asyncio.sleep(0)
            go_on.set()
            await asyncio.gather(early, late)
            assert known.token_of(second) is not None
        writer.close()

    asyncio.run(go())
