"""What a service counts, in the open text format."""

from collections import Counter as Counts

from prometheus_client import CollectorRegistry, Counter, Gauge

from mantisreed.jobs.under_way import UnderWay
from mantisreed.serving.orders import Order


class Metrics:
    """What is counted, in the open text format."""

    def __init__(self) -> None:
        self.registry = CollectorRegistry()
        self.requests = Counter(
            "mantisreed_requests",
            "Requests to the service",
            ("method", "status"),
            registry=self.registry,
        )
        self.ended = Counter(
            "mantisreed_jobs_ended", "Jobs by how they ended", ("state",), registry=self.registry
        )
        self.failed = Counter(
            "mantisreed_jobs_failed",
            "Failed jobs by what failed",
            ("kind",),
            registry=self.registry,
        )
        self.seconds = Counter(
            "mantisreed_transcribed_seconds", "Sound that was transcribed", registry=self.registry
        )
        self.spent = Counter(
            "mantisreed_spent", "What jobs cost", ("currency",), registry=self.registry
        )
        self.queue = Gauge("mantisreed_queue", "Jobs that have not ended", registry=self.registry)
        self.workers = Gauge(
            "mantisreed_workers", "Workers on the queue", ("machine",), registry=self.registry
        )
        self.queued = Gauge(
            "mantisreed_queued",
            "Queued recordings that have not ended",
            ("engine", "state"),
            registry=self.registry,
        )
        self.listeners = Gauge(
            "mantisreed_event_streams", "Open event streams", registry=self.registry
        )

    def note_work(self, work: UnderWay) -> None:
        """Count who works on the queue, and what is left of it."""
        self.workers.clear()
        for machine, count in Counts(one.host for one in work.workers).items():
            self.workers.labels(machine).set(count)
        self.queued.clear()
        for state, counts in (("waiting", work.waiting), ("working", work.working)):
            for engine, number in counts.items():
                self.queued.labels(engine, state).set(number)

    def note(self, order: Order) -> None:
        """Count a job that has ended."""
        self.ended.labels(order.state).inc()
        if order.state == "failed":
            self.failed.labels(order.kind or "unknown").inc()
        if order.duration and order.state != "failed":
            self.seconds.inc(order.duration)
        if order.cost:
            self.spent.labels(order.currency or "").inc(order.cost)
