"""Files of public packages, a few of those that `./dev corpus` copies: nothing in them changes in silence."""

from __future__ import annotations

from pathlib import Path

import pytest
from devtools.corpus.run import CHANGED, corpus

PACKAGES = ("country-json", "csv-spectrum", "gapminder", "palmerpenguins", "periodic-table", "xlsx-populate")


def test_no_value_of_others_files_changes(tmp_path: Path) -> None:
    found = corpus(tmp_path, packages=PACKAGES)
    if not found:
        pytest.skip("the registries of packages do not answer")
    assert [result for result in found if result.outcome in (CHANGED, "failed")] == []
    right = [result for result in found if result.outcome in ("right", "slow")]
    assert len(right) > 0.8 * len(found)
