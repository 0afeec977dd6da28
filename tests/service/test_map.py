"""The map: which job reads and writes what, and where columns come from; asked through the client."""

from __future__ import annotations

from devtools.stack import Stack
from tests.conftest import Place

from ultravect.client import Client


def test_jobs_objects_and_columns(client: Client, stack: Stack, place: Place) -> None:
    name = place.name
    place.file("hut_code,nights,price\n007,2,10.50\n012,3,4.00\n")
    first, second, third = f"{name}-load", f"{name}-sum", f"{name}-all"
    client.save_job(
        first,
        f"ultravect: 1\njob: {first}\nfrom: {{connection: incoming, files: {name}.csv}}\n"
        f"columns: [hut_code as hut, 'nights * price as worth decimal(10,2)']\ninto: {{connection: warehouse, table: {name}}}\n",
    )
    # the same table, by its schema as well
    client.save_job(
        second,
        f"ultravect: 1\njob: {second}\nfrom: {{connection: warehouse, table: public.{name}}}\n"
        f"columns: [worth as total]\ninto: {{connection: warehouse, table: {name}_sum}}\nrun: {{after: [{first}]}}\n",
    )
    client.save_job(
        third,
        f"ultravect: 1\njob: {third}\nfrom: {{connection: warehouse, query: 'select  1 as one'}}\n"
        f"into: {{connection: incoming, files: '{name}-{{run_date}}.csv'}}\n",
    )
    reader = f"{name}-read"
    client.save_job(
        reader,
        f"ultravect: 1\njob: {reader}\nfrom: {{connection: incoming, files: '{name}-*.csv'}}\ninto: {{connection: warehouse, table: {name}_r}}\n",
    )
    assert {one.name: one.state for one in client.map().jobs if one.name.startswith(name)} == dict.fromkeys(
        [first, second, third, reader], ""
    )
    for job in (first, second):
        ended = client.wait(client.run(job).id)
        assert ended.state == "succeeded", ended.error
    found = client.map()
    jobs = {job.name: job for job in found.jobs}
    assert (jobs[first].reads, jobs[first].writes) == ([f"incoming:{name}.csv"], [f"warehouse:{name}"])
    assert (jobs[second].reads, jobs[second].after, jobs[second].state) == (
        [f"warehouse:{name}"],
        [first],
        "succeeded",
    )
    query = next(one for one in found.objects if one.id == jobs[third].reads[0])
    assert (query.is_query, query.name) == (True, "select 1 as one")
    assert [f"incoming:{name}-{{run_date}}.csv", f"incoming:{name}-*.csv"] in found.same

    def steps(column: str, table: str = name) -> list[tuple[str, list[str], str]]:
        return [
            (step.job, list(step.source_columns), step.target_column)
            for step in client.column_steps("warehouse", table, column)
        ]

    origin, use = (first, ["nights", "price"], "worth"), (second, ["worth"], "total")
    assert steps("worth") == [origin, use]
    assert steps("total", f"{name}_sum") == [use, origin]
    assert steps("no such column") == []
    assert (
        next(step.expression for step in client.column_steps("warehouse", name, "worth"))
        == "nights * price as worth decimal(10,2)"
    )
    client.remove_job(second)
    assert steps("worth") == [origin]


def test_a_map_with_a_circle_has_an_end(client: Client, place: Place) -> None:
    place.sql("CREATE TABLE {t} (a int)")
    there, back = f"{place.name}-there", f"{place.name}-back"
    for job, source, target in ((there, place.name, f"{place.name}_b"), (back, f"{place.name}_b", place.name)):
        client.save_job(
            job,
            f"ultravect: 1\njob: {job}\nfrom: {{connection: warehouse, table: {source}}}\ninto: {{connection: warehouse, table: {target}}}\n",
        )
        client.wait(client.run(job).id)
    assert {step.job for step in client.column_steps("warehouse", place.name, "a")} == {there, back}
