"""A proof in words: short sentences, with figures and their units."""

import math

from niente.core.model.quantities import NO_BREAK_SPACE, duration_text, number_text
from niente.core.selection.explanation import risk_text
from niente.core.selection.proof import Fact, MoreEvidence, Proof

CORRUPTS = (
    "An unstable processor corrupts files. Back up first, search on data that can be lost, and trust no file that was "
    "written while a search ran. Keep within the maker's limits."
)


def horizon_text(proof: Proof) -> str:
    """Return the horizon as people say it: ``24 h``, ``30 days``."""
    hours = proof.goal.horizon_s / 3600.0
    return f"{hours:g}{NO_BREAK_SPACE}h" if hours <= 72.0 else f"{hours / 24.0:g}{NO_BREAK_SPACE}days"


def short_headline(proof: Proof) -> str:
    """Return the bound in a few words: ``At most 0.8 % in 24 h``."""
    if not proof.exposures:
        return "Nothing was run yet"
    return f"At most {risk_text(proof.at_most)} in {horizon_text(proof)}"


def state_text(proof: Proof) -> str:
    """Return how far the setting is proven."""
    if proof.proven:
        return "proven"
    if proof.aged and proof.by_law and proof.at_most <= proof.goal.chance:
        return "was proven; the evidence has aged"
    if proof.by_law and proof.at_most <= proof.goal.chance:
        return "not confirmed yet"
    return "not proven" if not proof.makers else "maker's voltage, not proven"


def headline(proof: Proof) -> str:
    """Return the answer in a sentence."""
    if not proof.exposures:
        return "Nothing has been run under a load that checks its results: nothing is known of how surely this setting lasts."
    sure = f"{100.0 * proof.goal.sure:g}{NO_BREAK_SPACE}% sure"
    return f"A failure within {horizon_text(proof)} is at most {risk_text(proof.at_most)} likely ({sure}): {state_text(proof)}."


def rests_on(proof: Proof) -> str:
    """Say what the bound rests on, and what it leans on beside the runs."""
    if not proof.exposures:
        return "There is no exposure."
    failed = sum(one.seen.failed for one in proof.exposures)
    total = duration_text(sum(one.seen.seconds for one in proof.exposures))
    there = duration_text(proof.clean_s) if proof.clean_s else "nothing"
    if not proof.by_law:
        return (
            f"{total} of exposure without a failure, {there} of it at settings that ask no less. Time alone bounds a rate only "
            f"by about three over itself: so little is known before something has failed."
        )
    bend = (
        "The bound is carried from depths near the threshold: it leans on the rate going on to fall as steeply as there, or "
        "more steeply. Only hours at the setting itself would show that."
    )
    return f"{len(proof.exposures)} exposures, {total}, {failed} failed; {there} clean at settings that ask no less. {bend}"


def loads_sentence(proof: Proof) -> str:
    """Say which load decides, and which were not run or check nothing."""
    deciding = next((one for one in proof.loads if one.load == proof.load), None)
    if deciding is None:
        return "No load was run."
    place = f" at {number_text(deciding.core_c, 0)}{NO_BREAK_SPACE}°C" if math.isfinite(deciding.core_c) else ""
    clock = f" and {number_text(deciding.clock_mhz, 0)}{NO_BREAK_SPACE}MHz" if math.isfinite(deciding.clock_mhz) else ""
    unchecked = [one.title for one in proof.loads if not one.checked]
    blind = f" In {', '.join(unchecked)} only a crash would show." if unchecked else ""
    left = [one.title for one in proof.loads if not math.isfinite(one.at_most)]
    unsearched = f" {', '.join(left)}: run no deeper, so nothing is known of it at an offset." if left else ""
    return f"{deciding.title}{place}{clock} decides it.{blind}{unsearched}"


def more_sentence(proof: Proof, more: MoreEvidence) -> str:
    """Say what to run to be twice as sure, how long, and what would be known then."""
    title = next((one.title for one in proof.loads if one.load == more.load), more.load)
    here = abs(more.depth_mv - proof.depth_mv) < 0.5
    where = "at the setting itself" if here else f"at {number_text(-more.depth_mv, 0)}{NO_BREAK_SPACE}mV"
    heat = f", {number_text(more.core_c, 0)}{NO_BREAK_SPACE}°C" if math.isfinite(more.core_c) else ""
    clean = f"{duration_text(3600.0 * more.hours)} of {title.lower()} {where}{heat}"
    return f"{clean}: without a failure, then at most {risk_text(more.at_most)}."


def fact_text(fact: Fact, sign: float = 1.0) -> tuple[str, str]:
    """Return a figure and its half width, in millivolts, as texts; a dash where it is not known."""
    if not math.isfinite(fact.value):
        return "–", ""
    return number_text(sign * fact.value, 0), f"± {number_text(0.5 * (fact.high - fact.low), 0)}"
