"""A mixed-integer program put together piece by piece and solved by HiGHS; the one place that knows the solver."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    import highspy

Floats = NDArray[np.float64]
INF = float("inf")


@dataclass(frozen=True)
class Solved:
    """values per column; duals per row and spare (reduced costs) per column of a linear program.

    objective: of the values, None where none were found; bound: no solution is worth more.
    """

    values: Floats
    objective: float | None
    bound: float
    duals: Floats
    spare: Floats


@dataclass
class Program:
    """Maximise worth x subject to rows of x between limits. Columns lie between 0 and `upper`."""

    worth: list[float] = field(default_factory=list)
    upper: list[float] = field(default_factory=list)
    whole: list[bool] = field(default_factory=list)
    rows: list[tuple[float, float]] = field(default_factory=list)
    _row: list[int] = field(default_factory=list)
    _column: list[int] = field(default_factory=list)
    _value: list[float] = field(default_factory=list)

    def column(self, worth: float, upper: float = 1.0, whole: bool = True, inside: Iterable[tuple[int, float]] = ()) -> int:
        """A new column; inside: (row, value). Returns its number."""
        number = len(self.worth)
        self.worth.append(worth)
        self.upper.append(upper)
        self.whole.append(whole)
        for row, value in inside:
            self._row.append(row)
            self._column.append(number)
            self._value.append(value)
        return number

    def row(self, least: float, most: float, of: Mapping[int, float] | None = None) -> int:
        """A new row: least <= sum of value x column <= most. Returns its number."""
        number = len(self.rows)
        self.rows.append((least, most))
        for column, value in (of or {}).items():
            self._row.append(number)
            self._column.append(column)
            self._value.append(value)
        return number

    def solve(self, seconds: float, linear: bool = False, start: Floats | None = None, gap: float = 0.0, enough: float = 0.5) -> Solved:
        """linear: without whole numbers; start: a solution to begin with; gap (a share) and enough (absolute): when to stop."""
        # Loaded where it is used: most of the application never solves anything.
        import highspy
        from highspy._core import _Highs

        n, m = len(self.worth), len(self.rows)
        none = np.zeros(n)
        if not n:
            return Solved(none, 0.0, 0.0, np.zeros(m), none)
        # The solver's outer class writes a banner to standard output, where a calculator's one line belongs.
        highs = _Highs()
        for name, value in (
            ("output_flag", False),
            ("log_to_console", False),
            ("time_limit", max(seconds, 0.01)),
            ("mip_rel_gap", gap),
            ("mip_abs_gap", enough),
            ("mip_feasibility_tolerance", 1e-7),
        ):
            highs.setOptionValue(name, value)
        highs.passModel(self._model(linear))
        if start is not None and not linear:
            given = highspy.HighsSolution()
            given.col_value = list(start)
            highs.setSolution(given)
        highs.run()
        info, found = highs.getInfo(), highs.getSolution()
        status = highs.getModelStatus()
        solved = info.primal_solution_status == highspy.SolutionStatus.kSolutionStatusFeasible
        values = np.asarray(found.col_value, dtype=np.float64) if solved else none
        objective = info.objective_function_value if solved else None
        if objective is not None and start is not None and not linear and abs(float(values @ np.asarray(self.worth)) - objective) > enough:
            # Seldom the solver tells what its best solution is worth, but hands back the one that it was given.
            return self.solve(seconds, gap=gap, enough=enough)
        if linear:
            # A linear program that ran out of time proves nothing.
            done = status == highspy.HighsModelStatus.kOptimal
            bound = info.objective_function_value if done else INF
            return (
                Solved(values, objective, bound, np.asarray(found.row_dual), np.asarray(found.col_dual))
                if done
                else Solved(values, objective, bound, np.zeros(m), none)
            )
        return Solved(values, objective, info.mip_dual_bound, np.zeros(m), none)

    def _model(self, linear: bool) -> highspy.HighsLp:
        import highspy as lib

        n, m = len(self.worth), len(self.rows)
        column = np.asarray(self._column, dtype=np.int64)
        by_column = np.argsort(column, kind="stable")
        starts = np.zeros(n + 1, dtype=np.int32)
        np.cumsum(np.bincount(column, minlength=n), out=starts[1:])
        lp = lib.HighsLp()
        lp.num_col_, lp.num_row_ = n, m
        lp.sense_ = lib.ObjSense.kMaximize
        lp.col_cost_ = np.asarray(self.worth, dtype=np.float64)
        lp.col_lower_ = np.zeros(n)
        lp.col_upper_ = np.asarray(self.upper, dtype=np.float64)
        limits = np.asarray(self.rows, dtype=np.float64).reshape(m, 2)
        lp.row_lower_, lp.row_upper_ = limits[:, 0].copy(), limits[:, 1].copy()
        lp.a_matrix_.format_ = lib.MatrixFormat.kColwise
        lp.a_matrix_.num_col_, lp.a_matrix_.num_row_ = n, m
        lp.a_matrix_.start_ = starts
        lp.a_matrix_.index_ = np.asarray(self._row, dtype=np.int32)[by_column]
        lp.a_matrix_.value_ = np.asarray(self._value, dtype=np.float64)[by_column]
        if not linear:
            kinds = lib.HighsVarType
            lp.integrality_ = [kinds.kInteger if whole else kinds.kContinuous for whole in self.whole]
        return lp
