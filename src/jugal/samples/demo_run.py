"""The demo case from end to end without a window."""

from __future__ import annotations

import tempfile
from collections import Counter
from pathlib import Path
from typing import IO

from jugal.case.store import Case
from jugal.engine.child import Child
from jugal.engine.delivery import deliver, plan_delivery
from jugal.engine.donors import is_donor
from jugal.engine.report.write import write_reports
from jugal.engine.run import CaseRun
from jugal.model.result import RepairStatus, Verdict
from jugal.samples.demo import make_demo


def run_demo(out: IO[str]) -> int:
    """Examines, repairs and delivers the demo case in a temporary folder and prints a summary; 0 where all went well."""
    files = make_demo()
    with tempfile.TemporaryDirectory(prefix="jugal-demo-") as name:
        root = Path(name)
        case = Case(root / "demo.jugal")
        case.add_source(str(files))
        for _ in CaseRun(case).run():
            pass
        rows = list(case.files())
        examinations = {row.id: case.examination(row.id) for row in rows}
        donors = [e for e in examinations.values() if e is not None and is_donor(e)]
        statuses: Counter[str] = Counter()
        with Child() as child:
            for number, examination in examinations.items():
                if examination is None or not examination.worth_repairing:
                    continue
                outcome = child.repair(examination, root / "repaired", donors)
                case.add_repair(number, outcome, outcome.status is RepairStatus.REPAIRED)
                statuses[outcome.status.value] += 1
        wanted = [
            r.id for r in rows if r.verdict not in (Verdict.UNRECOVERABLE, Verdict.UNRECOGNISED) and r.error is None
        ]
        results = list(deliver(case, plan_delivery(case, wanted), root / "delivery"))
        failed = [r for r in results if r.error]
        write_reports(case, root / "delivery")
        verdicts = Counter(row.verdict.value for row in rows)
        kinds = Counter(row.kind.value for row in rows)
        print(f"files      {len(rows)}", file=out)
        print(f"kinds      {', '.join(f'{k} {n}' for k, n in sorted(kinds.items()))}", file=out)
        print(f"verdicts   {', '.join(f'{v.value} {verdicts[v.value]}' for v in Verdict)}", file=out)
        print(f"repaired   {statuses['repaired']} of {sum(statuses.values())} tried", file=out)
        print(
            f"delivered  {len(results) - len(failed)} of {len(results)}, each read back and compared",
            file=out,
        )
        case.close()
    return 1 if failed else 0
