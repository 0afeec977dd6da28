"""Slices on a Dask cluster that is there already: the same plan, executed by its workers.

A worker of the cluster has this package in the same version, and no key of the service: the settings of connections are sent sealed, with
a key that was made for the run and opens nothing else. A program that is let in at the scheduler's port has them, and may run code in the
cluster's workers; so the scheduler is spoken to by TLS unless it is on this machine, and of what comes back nothing is taken but plain
data: no class that a cluster names is made here. What a lost worker of the cluster had is copied again by another one, once: see
``run_slice``.
"""

from __future__ import annotations

import io
import ipaddress
import json
import pickle
import secrets
import types
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal
from urllib.parse import urlsplit

from pydantic import BaseModel, ConfigDict, ValidationError

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
from ultravect.service.sealing import Keys, SealBroken
from ultravect.service.work.processes.messages import ErrorSaid, RejectSaid, SliceAccount

SCHEME = "dask://"
_CONNECT_SECONDS = 20
_ATTEMPTS = 5
_TLS = ("authority", "certificate", "key")


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


def copy_slice(task: Mapping[str, Any], number: int) -> bytes:
    """Copies a slice on a worker of the cluster; its account, or its error, as JSON."""
    return json.dumps(_copied(task, number), default=str).encode()


def _copied(task: Mapping[str, Any], number: int) -> dict[str, Any]:
    from distributed import get_worker

    worker = get_worker()
    heard = _Collected(lambda figures: worker.log_event(task["topic"], {"number": number, "progress": figures}))
    try:
        keys = Keys(str(task["key"]).encode())
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
    """Has slices copied by the cluster of ``place``; see ``SliceRunner``. ``source`` and ``target`` are what connections are."""

    def __init__(
        self,
        place: Mapping[str, str],
        source: Mapping[str, Any],
        target: Mapping[str, Any],
        run: str,
        note: Callable[..., None],
    ) -> None:
        """``place``: the address, and the texts of certificates where it is reached by TLS: ``authority``, ``certificate`` and ``key``.

        ``note`` is called with what becomes of a slice, for the records.
        """
        self._address, self._tls = place["address"], {name: place.get(name, "") for name in _TLS}
        self._source, self._target, self._run, self._note = source, target, run, note

    def capacity(self) -> int:
        with self._client() as client:
            return sum(client.nthreads().values())

    def _client(self) -> Any:
        try:
            from distributed import Client
            from distributed.security import Security
        except ImportError:
            raise UltravectError(
                "package-missing",
                f"slices are to run on {self._address}, and the package distributed is not installed",
                hint="pip install 'ultravect[dask]'",
            ) from None
        _take_plain_data_alone()
        here = is_on_this_machine(self._address) and not self._tls["authority"]
        address = self._address.replace(SCHEME, "tcp://" if here else "tls://", 1)
        security = None
        if not here:
            if not self._tls["authority"]:
                raise UltravectError(
                    "cluster-not-encrypted",
                    f"the cluster {self._address} is on another machine, and there is no certificate by which it is reached",
                    hint="set ULTRAVECT_SLICES_CA, ULTRAVECT_SLICES_CERTIFICATE and ULTRAVECT_SLICES_KEY to files, and start the scheduler with TLS",
                )
            security = Security(
                require_encryption=True,
                tls_ca_file=self._tls["authority"],
                tls_client_cert=self._tls["certificate"] or None,
                tls_client_key=self._tls["key"] or None,
            )
        try:
            return Client(address, timeout=_CONNECT_SECONDS, set_as_default=False, security=security)
        except (OSError, TimeoutError) as error:
            raise UltravectError(
                "cluster-unreachable",
                f"the cluster {self._address} cannot be reached: {str(error)[:200]}",
                hint="is its scheduler running? without ULTRAVECT_SLICES, the service's own workers copy slices",
            ) from None

    def run(self, plan: LegPlan, order: SliceOrder, listener: Listener) -> Iterator[SliceResult]:
        from distributed import as_completed

        self._note("slices", order=order.as_json(), labels=[part.label for part in plan.slices], cluster=True)
        key = secrets.token_urlsafe(32)
        sealing = Keys(key.encode())
        task = {
            "key": key,
            "topic": f"ultravect-{order.receipt.run}-{order.receipt.leg}",
            "plan": plan.as_json(),
            "order": order.as_json(),
            "source": sealing.seal(self._source),
            "target": sealing.seal(self._target),
            "run": self._run,
        }
        with self._client() as client:
            _require_version(client, self._address)
            figures: dict[int, dict[str, Any]] = {}

            def heard(event: tuple[float, dict[str, Any]]) -> None:
                try:
                    said = _Heard.model_validate(event[1])
                except ValidationError:
                    return  # nothing that a slice says
                number = said.number
                if said.worker is not None:
                    self._note("slice", number=number, state="running", worker=said.worker[:100])
                elif said.progress is not None and 1 <= number <= len(plan.slices):
                    figures[number] = said.progress
                    self._note("slice", number=number, progress=said.progress)
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
            found = future.result()
            answer = _Answer.model_validate_json(found if isinstance(found, bytes | bytearray) else b"")
        except Exception as error:
            raise UltravectError(
                "slice-lost",
                f"slice {number} was lost by the cluster {self._address} again and again: {type(error).__name__}: {error}"[
                    :500
                ],
                hint="see the logs of the cluster's workers",
            ) from None
        if answer.error is not None or answer.slice is None:
            error = answer.error or ErrorSaid(code="slice-lost", detail=f"slice {number} has no account")
            self._note("slice", number=number, state="failed", error=error.model_dump())
            raise UltravectError(error.code, error.detail, hint=error.hint, **error.where)
        for level, text in answer.log:
            listener.log(level, f"slice {number}: {text}")
        listener.rejects([Reject(**reject.model_dump()) for reject in answer.rejects])
        self._note("slice", number=number, state="succeeded", worker=answer.worker[:100])
        return SliceResult.from_json(answer.slice.model_dump())


class _Heard(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)

    number: int
    worker: str | None = None
    progress: dict[str, int] | None = None


class _Answer(BaseModel):
    """What a slice gives back."""

    model_config = ConfigDict(extra="forbid")

    error: ErrorSaid | None = None
    slice: SliceAccount | None = None
    worker: str = ""
    rejects: list[RejectSaid] = []
    log: list[tuple[Literal["debug", "info", "note", "warning", "error"], str]] = []


def is_on_this_machine(address: str) -> bool:
    """Whether a scheduler's address is one of this machine alone."""
    host = urlsplit(address).hostname or ""
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


# what the client's own protocol needs: types of plain values, and nothing that does anything when it is made
_PLAIN = frozenset(
    ("builtins", name)
    for name in ("bytes", "bytearray", "str", "int", "float", "bool", "dict", "list", "tuple", "set", "frozenset")
)


class _PlainData(pickle.Unpickler):
    def find_class(self, module: str, name: str) -> Any:
        if (module, name) in _PLAIN:
            return super().find_class(module, name)
        raise pickle.UnpicklingError(f"the cluster names {module}.{name}, which is not made here")


def _plain(data: Any, *, buffers: Any = ()) -> Any:
    return _PlainData(io.BytesIO(data), buffers=buffers or None).load()


def _take_plain_data_alone() -> None:
    """From here on, this process makes nothing of what a cluster sends but plain values. It is a process of one leg."""
    import distributed.client
    import distributed.protocol.pickle

    distributed.protocol.pickle.loads = _plain
    distributed.client.loads = _plain
    distributed.client.pickle = types.SimpleNamespace(**{**vars(pickle), "loads": _plain})


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
