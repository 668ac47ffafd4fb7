"""Running the service until it is asked to stop."""

import asyncio
from collections.abc import Callable

from mantisreed.engines.listening import serving
from mantisreed.running import interruptible, run_interruptibly
from mantisreed.serving.app import application
from mantisreed.serving.service import ServeOptions, Service
from mantisreed.workspace import Workspace

_MOST_OF_ONE = 4000  # connections of one address: a proxy in front brings all of them


def serve(
    workspace: Workspace,
    options: ServeOptions,
    *,
    on_ready: Callable[[str], None],
    on_failure: Callable[[str], None] = lambda what: None,
) -> None:
    """Serve until the process is asked to stop; then what is on its way is finished, or left
    resumable.

    Args:
        workspace: with the engine cards and the ledger.
        options: how it is offered.
        on_ready: called with the address, once requests are answered.
        on_failure: called with what failed and does not end the service.

    Raises:
        InputError: the address is taken, or is reached from elsewhere and there is no token.
        TrustError: the settings are not trusted with what a card uses.
    """
    for name in workspace.engines:
        workspace.require_trust_in(name)
    service = Service(workspace, options, on_failure)
    run_interruptibly(_serve(service, on_ready))


async def _serve(service: Service, on_ready: Callable[[str], None]) -> None:
    stopping = asyncio.Event()
    with interruptible(stopping.set):
        try:
            await service.begin()
            listen = service.options.listen
            async with serving(
                application(service), listen, key="--listen", most_of_one=_MOST_OF_ONE, most=None
            ):
                on_ready(f"http://{listen}")
                await stopping.wait()
                # New jobs are refused from here on; streams end with their connections.
                service.is_stopping = True
                service.feed.close()
        finally:
            await service.end()
