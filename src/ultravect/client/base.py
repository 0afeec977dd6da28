"""What all answers share."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Iterator
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from pydantic import BaseModel, ConfigDict, PrivateAttr

if TYPE_CHECKING:
    import pandas as pd
    import pyarrow as pa


class Given(BaseModel):
    """An answer of the service. Fields that this version does not know are left out, not refused."""

    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)


Item = TypeVar("Item", bound=Given)


class Page(Given, Generic[Item]):
    """A page of a list; ``total`` counts the whole list.

    To go through it is to go through the whole list: the other pages are asked for as they are needed. ``items`` are those of this page.
    """

    items: list[Item]
    total: int
    page: int
    pages: int
    _further: Callable[[int], Page[Item]] | None = PrivateAttr(None)

    def __iter__(self) -> Iterator[Item]:  # type: ignore[override]
        """Of this page and all after it."""
        shown = self
        while True:
            yield from shown.items
            if self._further is None or shown.page >= shown.pages:
                return
            shown = self._further(shown.page + 1)

    async def __aiter__(self) -> AsyncIterator[Item]:
        """The same for ``async for``: the other pages are waited for without holding up what else runs."""
        shown = self
        while True:
            for item in shown.items:
                yield item
            if self._further is None or shown.page >= shown.pages:
                return
            shown = await asyncio.to_thread(self._further, shown.page + 1)

    def __len__(self) -> int:
        return self.total

    def __bool__(self) -> bool:
        return self.total > 0

    def arrow(self) -> pa.Table:
        """The whole list as an Arrow table, a row an item; values that have parts are structs."""
        from ultravect.client.tables import arrow_of_items

        return arrow_of_items([item.model_dump(mode="json") for item in self])

    def frame(self) -> pd.DataFrame:
        """The same as a data frame of pandas."""
        from ultravect.client.tables import frame_of

        return frame_of(self.arrow())

    def _repr_html_(self) -> str:
        from ultravect.client.notebook import html_of_items

        return html_of_items([item.model_dump(mode="json") for item in self.items], self.total)


def paged(page: Page[Item], further: Callable[[int], Page[Item]]) -> Page[Item]:
    """A page that knows where the others come from."""
    page._further = further
    return page


def plain(data: Any) -> Any:
    """Answers as what JSON has."""
    if isinstance(data, BaseModel):
        return data.model_dump(mode="json")
    if isinstance(data, list):
        return [plain(item) for item in data]
    return data
