"""What a plan costs on the line, computed only on demand: it takes longer to compute than the plan itself."""

from __future__ import annotations

from ..dialects.cost import Cost, sum_costs
from ..dialects.dialect import Dialect
from ..frozen import frozen
from ..link import LineSettings
from .model import MemoryPlan, Plan

USUAL_TURNAROUND_S = 0.001
_MASS_ERASE = Cost(2 + 3, 2, 2)


@frozen
class Costs:
    """Of the three steps that move data."""

    erase: Cost
    write: Cost
    verify: Cost

    def seconds(self, settings: LineSettings, turnaround_s: float = USUAL_TURNAROUND_S) -> float:
        return (self.erase + self.write + self.verify).seconds(settings, turnaround_s)


def price(plan: Plan, dialect: type[Dialect], verify: bool = True) -> Costs:
    """What the plan costs with this dialect."""
    memories = plan.memories
    return Costs(
        sum_costs(_erase(memory, dialect) for memory in memories),
        sum_costs(dialect.cost_of_writes(plan.part, memory.memory, memory.blocks) for memory in memories),
        sum_costs(dialect.cost_of_verify(plan.part, m.memory, m.checks) for m in memories) if verify else Cost(),
    )


def _erase(plan: MemoryPlan, dialect: type[Dialect]) -> Cost:
    if plan.whole_erase:
        return _MASS_ERASE + Cost(busy_s=plan.memory.mass_erase_time.typical_s)
    return dialect.cost_of_erase(plan.memory, plan.units) if plan.units else Cost()
