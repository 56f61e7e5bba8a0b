"""Driver source for a target, from a sequence or a captured driver and a rig: what to send, and how the target's pins are moved."""

from typing import TYPE_CHECKING

from ..lazy import exports

if TYPE_CHECKING:
    from .plan import Plan, plan_of
    from .probe import probe_of
    from .render import Emitted, emitted
    from .scanning import Scan
    from .targets import Target, every_target, target_named

__all__ = ["Emitted", "Plan", "Scan", "Target", "emitted", "every_target", "plan_of", "probe_of", "target_named"]

__getattr__ = exports(
    __name__,
    {
        "plan": ("Plan", "plan_of"),
        "probe": ("probe_of",),
        "render": ("Emitted", "emitted"),
        "scanning": ("Scan",),
        "targets": ("Target", "every_target", "target_named"),
    },
)
