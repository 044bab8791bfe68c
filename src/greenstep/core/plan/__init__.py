"""The plan of an upload: from images, the part and its dialect to erase units and write blocks. Anything that would
make it wrong is refused."""

from .checks import check_image, memory_named
from .layout import make_plan, plan_memory
from .model import MemoryPlan, Plan

__all__ = ["MemoryPlan", "Plan", "check_image", "make_plan", "memory_named", "plan_memory"]
