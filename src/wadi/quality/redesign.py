"""Whether a run looks as if the site was redesigned since the plan's earlier runs, so that its plan may be mended."""

from __future__ import annotations

from wadi.actions.run import Run
from wadi.quality.verdict import Verdict
from wadi.store.folder import DATABASE

_SIGNS = frozenset({"drift: filled", "blank", "rowless", "empty-table"})


def plan_to_mend(run: Run, verdict: Verdict) -> str:
    """The plan file that `wadi mend` may help: where a column or the rows went blank, or pages lack what they must have, and
    there is an earlier run to learn from. Else empty."""
    is_blank = any(finding.fails and finding.code in _SIGNS for finding in verdict.findings)
    lacks = any(failed.problem.get("code") == "not-the-page" for failed in run.state.failures())
    folders = [path.parent for path in run.folder.parent.glob(f"*/{DATABASE}")]
    if not (is_blank or lacks) or len(folders) < 2:
        return ""
    return str(run.plan_folder / f"{run.plan_name}.toml")
