"""A question of one's own: every setting that was run, with its readings."""

from niente.core.answers.framing import framed
from niente.core.answers.material import (
    AnswerMaterial,
    clock_of,
    load_card,
    main_limiter,
    noise_of_run,
    power_in,
    settled_core,
    wall_in,
    work_of,
)
from niente.core.answers.wording import bare, load_title
from niente.core.model.answer_document import AnswerDocument, AnswerFigure, Column, Table, TableRow, Value, value_of
from niente.core.model.rig_card import LoadKind
from niente.core.selection.setting_words import setting_text


def free_answer(of: AnswerMaterial) -> AnswerDocument:
    """Return all runs of a question that is of no kind, the coolest first."""
    runs = sorted(
        (run for run in of.runs if run.load_kind != LoadKind.IDLE and settled_core(run).known),
        key=lambda run: settled_core(run).value or 0.0,
    )
    rows = tuple(
        TableRow(
            setting_text(run.setting, of.card.stock, brief=True) or "as found",
            (
                settled_core(run),
                value_of(run.rise_k, run.settled.half_width_k),
                power_in(run),
                wall_in(run),
                clock_of(run),
                work_of(run),
                noise_of_run(run),
                Value(words=f"failed, {main_limiter(run)}" if run.failures else main_limiter(run)),
            ),
            load_title(load_card(of.card, run.load)),
            (run.run_id,),
            open=not run.settled.known,
        )
        for run in runs
    )
    columns = (
        Column("core_c", "Core", "°C", 1),
        Column("rise_k", "Rise", "K", 1),
        Column("power_w", "Package", "W", 1),
        Column("wall_w", "Wall", "W", 0),
        Column("clock_mhz", "Clock", "MHz", 0),
        Column("throughput_per_s", "Work", "1/s", 2),
        Column("noise_dba", "Noise", "dBA", 1),
        Column("limiter", "What limits it"),
    )
    coolest = runs[0] if runs else None
    figures = [
        AnswerFigure(
            f"{run.run_id}.{column.name}",
            f"Run {run.run_id}: {column.title.lower()}",
            column.unit,
            column.digits,
            value,
            (run.run_id,),
        )
        for run, row in zip(runs, rows, strict=True)
        for column, value in zip(columns, row.values, strict=True)
        if value.value is not None
    ]
    return framed(
        of,
        [f"{len({run.setting.key() for run in runs})} settings"] if runs else [],
        f"{len(runs)} runs, the coolest at {bare(settled_core(coolest).value, 1, '°C')}"
        if coolest is not None
        else "No run under a load yet",
        f"{len(runs)} runs",
        figures=figures,
        table=Table("Run by run", columns, rows) if rows else None,
    )
