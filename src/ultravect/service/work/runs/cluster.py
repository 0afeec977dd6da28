"""Slices on a Dask cluster that is there already: the same plan, executed by its workers.

A worker of the cluster has this package in the same version, and the service's key (ULTRAVECT_KEY or ULTRAVECT_KEY_FILE): the settings of
connections are sent sealed, and opened where the slice is copied. What a lost worker of the cluster had is copied again by another one,
once: see ``run_slice``.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from ultravect import __version__ as VERSION
from ultravect.core.contracts.changes import RowChange
from ultravect.core.contracts.receipt import Receipt
from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.run.leg import Listener
from ultravect.core.engine.run.rejected.rejects import Reject
from ultravect.core.engine.run.slice_run import SliceOrder, SliceResult, run_slice
from ultravect.core.errors import UltravectError
from ultravect.core.model.finding import Finding
from ultravect.service.sealing import SealBroken, read_key

SCHEME = "dask://"
_CONNECT_SECONDS = 20
_ATTEMPTS = 5


@dataclass
class _Collected:
    """What a slice says on the cluster, to be sent back with its account; see ``Listener``."""

    send: Callable[[dict[str, Any]], object]
    rejected: list[Reject] = field(default_factory=list)
    logged: list[tuple[str, str]] = field(default_factory=list)

    def phase(self, name: str, state: str) -> None: ...

    def progress(self, figures: dict[str, Any]) -> None:
        self.send(figures)

    def log(self, level: str, text: str) -> None:
        self.logged.append((level, text))

    def finding(self, finding: Finding) -> None: ...

    def planned(self, plan: LegPlan) -> None: ...

    def rejects(self, rejects: Sequence[Reject]) -> None:
        self.rejected += rejects

    def changes(self, changes: Sequence[RowChange]) -> None: ...

    def read_again(self) -> None: ...

    def published(self, receipt: Receipt) -> None: ...


def copy_slice(task: Mapping[str, Any], number: int) -> dict[str, Any]:
    """Copies a slice on a worker of the cluster; its account, or its error, as data."""
    from distributed import get_worker

    worker = get_worker()
    heard = _Collected(lambda figures: worker.log_event(task["topic"], {"number": number, "progress": figures}))
    try:
        keys = read_key(os.environ)
        source, target = (ConnectionSpec(**keys.unseal(task[name])) for name in ("source", "target"))
        worker.log_event(task["topic"], {"number": number, "worker": worker.address})
        plan, order = LegPlan.from_json(task["plan"]), SliceOrder.from_json(task["order"])
        result = run_slice(plan, number, order, source, target, heard, task["run"])
    except UltravectError as error:
        return {"error": error.as_dict()}
    except SealBroken as error:
        return {"error": UltravectError("seal-broken", f"{worker.address}: {error}", hint=error.hint).as_dict()}
    except Exception as error:
        unexpected = UltravectError("internal-error", f"{worker.address}: {type(error).__name__}: {error}"[:500])
        return {"error": unexpected.as_dict()}
    return {
        "slice": result.as_json(),
        "worker": worker.address,
        "rejects": [reject.as_dict() for reject in heard.rejected],
        "log": heard.logged,
    }


class ClusterSlices:
    """Has slices copied by the cluster at ``address``; see ``SliceRunner``. ``source`` and ``target`` are sealed."""

    def __init__(self, address: str, source: str, target: str, run: str, note: Callable[..., None]) -> None:
        """``note`` is called with what becomes of a slice, for the records."""
        self._address, self._source, self._target, self._run, self._note = address, source, target, run, note

    def capacity(self) -> int:
        with self._client() as client:
            return sum(client.nthreads().values())

    def _client(self) -> Any:
        try:
            from distributed import Client
        except ImportError:
            raise UltravectError(
                "package-missing",
                f"slices are to run on {self._address}, and the package distributed is not installed",
                hint="pip install 'ultravect[dask]'",
            ) from None
        address = self._address.replace(SCHEME, "tcp://", 1)
        try:
            return Client(address, timeout=_CONNECT_SECONDS, set_as_default=False)
        except (OSError, TimeoutError) as error:
            raise UltravectError(
                "cluster-unreachable",
                f"the cluster {self._address} cannot be reached: {str(error)[:200]}",
                hint="is its scheduler running? without ULTRAVECT_SLICES, the service's own workers copy slices",
            ) from None

    def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
        from distributed import as_completed

        self._note("slices", order=order.as_json(), labels=[part.label for part in plan.slices], cluster=True)
        task = {
            "topic": f"ultravect-{order.receipt.run}-{order.receipt.leg}",
            "plan": plan.as_json(),
            "order": order.as_json(),
            "source": self._source,
            "target": self._target,
            "run": self._run,
        }
        with self._client() as client:
            _require_version(client, self._address)
            figures: dict[int, dict[str, Any]] = {}

            def heard(event: tuple[float, dict[str, Any]]) -> None:
                _, said = event
                number = said["number"]
                if "worker" in said:
                    self._note("slice", number=number, state="running", worker=said["worker"])
                else:
                    figures[number] = said["progress"]
                    self._note("slice", number=number, progress=said["progress"])
                    names = ("rows_read", "bytes_read", "rows_staged", "bytes_total", "rows_per_second")
                    listener.progress({name: sum(part.get(name, 0) for part in figures.values()) for name in names})

            client.subscribe_topic(task["topic"], heard)
            futures = [
                client.submit(
                    copy_slice, task, number, key=f"{task['topic']}-{number}", retries=_ATTEMPTS, pure=False
                )
                for number in range(1, len(plan.slices) + 1)
            ]
            try:
                for future in as_completed(futures, loop=client.loop):
                    yield self._account(int(future.key.rpartition("-")[2]), future, listener)
            finally:
                client.cancel(futures, force=True)

    def _account(self, number: int, future: Any, listener: Listener) -> SliceResult:
        try:
            answer: dict[str, Any] = future.result()
        except Exception as error:
            raise UltravectError(
                "slice-lost",
                f"slice {number} was lost by the cluster {self._address} again and again: {type(error).__name__}: {error}"[
                    :500
                ],
                hint="see the logs of the cluster's workers",
            ) from None
        if "error" in answer:
            error = answer["error"]
            self._note("slice", number=number, state="failed", error=error)
            raise UltravectError(**{**error, "where": None}, **error["where"])
        for level, text in answer["log"]:
            listener.log(level, f"slice {number}: {text}")
        listener.rejects([Reject(**reject) for reject in answer["rejects"]])
        self._note("slice", number=number, state="succeeded", worker=answer["worker"])
        return SliceResult.from_json(answer["slice"])


def _version() -> str:
    return VERSION


def _require_version(client: Any, address: str) -> None:
    """UltravectError where a worker of the cluster has another version, or none."""
    try:
        found = client.run(_version, on_error="return")
    except Exception as error:
        raise UltravectError("cluster-unreachable", f"the cluster {address} does not answer: {error}"[:300]) from None
    other = {worker: answer for worker, answer in found.items() if answer != VERSION}
    if other or not found:
        worker, answer = next(iter(other.items()), ("", ""))
        raise UltravectError(
            "cluster-version",
            f"the cluster {address} has no workers" if not found
            else f"worker {worker} of the cluster {address} has not ultravect {VERSION}, but {answer}"[:300],
            hint="install the same version there as the service has" if found else "start workers of the cluster",
        )  # fmt: skip
