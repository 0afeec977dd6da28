"""A process that executes plans: ``python -m tests.core.plan_process`` takes each as a line of JSON, and answers with one."""

from __future__ import annotations

import json
import sys

from devtools.pairs import Copied

from ultravect.core.engine.objects.connections import ConnectionSpec
from ultravect.core.engine.plan.leg_plan import LegPlan
from ultravect.core.engine.plan.open_leg import OpenLeg
from ultravect.core.engine.run.execute import run_plan
from ultravect.core.engine.run.execution import Execution
from ultravect.core.errors import UltravectError


def main() -> None:
    for line in sys.stdin:
        task = json.loads(line)
        listener = Copied()
        try:
            source, target = (ConnectionSpec(**task[side]) for side in ("source", "target"))
            result = run_plan(OpenLeg.open(LegPlan.from_json(task["plan"]), source, target), Execution(listener, "7"))
            answer = {"tally": result.tally.as_dict(), "rejects": len(listener.rejected), "strategy": result.strategy}
        except UltravectError as error:
            answer = {"error": error.code}
        print(json.dumps(answer), flush=True)


if __name__ == "__main__":
    main()
