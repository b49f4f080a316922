"""Everything that the agent tells by itself."""

from __future__ import annotations

from good_tide.protocol.agent_calls import (
    DisksChanged,
    HistoryChanged,
    StandingsChanged,
    WorkEnded,
    WorkGoesOn,
)
from good_tide.protocol.coverage_calls import SurveyView

AnyNote = WorkGoesOn | WorkEnded | HistoryChanged | StandingsChanged | DisksChanged | SurveyView
NOTES: dict[str, type[AnyNote]] = {
    kind.wire_name(): kind
    for kind in (WorkGoesOn, WorkEnded, HistoryChanged, StandingsChanged, DisksChanged, SurveyView)
}
"""By their names on the wire."""
