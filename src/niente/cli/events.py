"""The bench's events as data, one JSON object a line. Their names and keys stand in docs/reference and are kept."""

import math
from typing import Any

import msgspec

from niente.core.model.records import (
    BenchFailed,
    ForecastMade,
    HandCardShown,
    MadeSafe,
    PlanEnded,
    PlanStarted,
    Record,
    RigEventSeen,
    RunClosed,
    RunLeftOut,
    RunOpened,
    StateChanged,
    TimeConstantsFound,
    WarningRaised,
)
from niente.core.model.runs import RunKind


def as_data(event: Record) -> dict[str, Any] | None:
    """Return an event as data; ``None`` for what is not told on the command line: single samples, a changed card."""
    match event:
        case PlanStarted(plan, plan_id, done):
            return {"event": "plan_started", "question": plan.question, "plan": plan_id, "done": done}
        case StateChanged(state, text, pauses):
            return {"event": "state", "state": state.value, "text": text, "pauses_after": pauses}
        case HandCardShown(card):
            return {"event": "card", "card": msgspec.to_builtins(card)}
        case RunLeftOut(index, text):
            return {"event": "left_out", "number": index + 1, "text": text}
        case WarningRaised(text):
            return {"event": "warned", "text": text}
        case MadeSafe(safe, text):
            return {"event": "made_safe", "safe": safe, "text": text}
        case PlanEnded(complete, why, error):
            return {"event": "plan_ended", "complete": complete, "why": why, "error": str(error) if error else None}
        case BenchFailed(report):
            return {"event": "broke", "report": report}
    return _run_as_data(event)


def _run_as_data(event: Record) -> dict[str, Any] | None:
    """Return an event of one run as data."""
    match event:
        case RunOpened(run_id, index, total, step, kind=RunKind.STEP):
            setting = msgspec.to_builtins(step.setting)
            return {
                "event": "run_opened",
                "run": run_id,
                "number": index + 1,
                "of": total,
                "load": step.load,
                "setting": setting,
                "stage": step.stage,
            }
        case ForecastMade(run_id, time_s, settled) if settled.known:
            return {
                "event": "forecast",
                "run": run_id,
                "rig_time_s": time_s,
                "settles_at_c": round(settled.value_c, 2),
                "half_width_k": round(settled.half_width_k, 2) if math.isfinite(settled.half_width_k) else None,
            }
        case RunClosed(run_id, index, outcome, why, kind=RunKind.STEP):
            return {"event": "run_closed", "run": run_id, "number": index + 1, "how": outcome, "why": why}
        case RigEventSeen(run_id, time_s, happened):
            return {
                "event": "happened",
                "run": run_id,
                "rig_time_s": time_s,
                "kind": happened.kind.value,
                "detail": happened.detail,
            }
        case TimeConstantsFound(run_id, constants):
            return {"event": "taught", "run": run_id, "time_constants_s": [round(one.seconds, 1) for one in constants]}
    return None
