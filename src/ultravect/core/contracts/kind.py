"""What a kind of connection says about itself: one descriptor, by which it is listed, configured, tested and opened."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from ultravect.core.model.base import Declared


@dataclass(frozen=True)
class Kind:
    """A kind, as its package registers it in the entry-point group ``ultravect.kinds``, under its name.

    ``holds``: ``tables`` where ``opens`` gives a ``Database``, ``files`` where it gives a ``Storage``.
    ``settings``: a pydantic model; secrets and the settings that say which place is reached are marked in it, by the types
    of ``core.model.connection``.
    ``opens``: ``package.module:Class``, imported on first use, so that a driver that is missing stops this kind alone. It is
    called with the connection's name, its settings, and the folders that files of this machine are confined to.
    ``dialect``: ``package.module:Class`` of the SQL dialect, of a kind with tables; it is imported without the driver.
    ``more_dialects``: those of other forms that its tables may have, by their names.
    ``borrows``: settings that name another connection, each with ``package.module:function`` that gives the settings with what is taken from it:
    it is called with the settings, the other's name, kind and settings.
    ``needs``: modules that the kind imports, each with the Python package that has it.
    ``usual_schema``: the schema of a table that is named without one; "" where a setting ``database`` says it, or there is none.
    """

    name: str
    holds: Literal["tables", "files"]
    settings: type[Declared]
    opens: str
    dialect: str = ""
    needs: Mapping[str, str] = field(default_factory=dict)
    usual_schema: str = ""
    more_dialects: Mapping[str, str] = field(default_factory=dict)
    borrows: Mapping[str, str] = field(default_factory=dict)
