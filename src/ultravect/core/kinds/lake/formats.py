"""Which of the two formats the tables of a lake have; the library of each is imported on first use."""

from __future__ import annotations

from ultravect.core.kinds.lake.kind import LakeSettings
from ultravect.core.kinds.lake.place import LakePlace
from ultravect.core.kinds.lake.table_version import LakeFormat


def format_of(place: LakePlace, settings: LakeSettings) -> LakeFormat:
    if settings.format == "iceberg":
        from ultravect.core.kinds.lake.iceberg.format import IcebergFormat

        return IcebergFormat(place, settings)
    from ultravect.core.kinds.lake.delta.format import DeltaFormat

    return DeltaFormat(place)
