"""How jobs stand, as the agent knows it, or as a command finds it without one."""

from __future__ import annotations

from collections.abc import Sequence

from good_tide.core.settings import Job
from good_tide.core.standing import JobStanding
from good_tide.operations.workplace import Workplace
from good_tide.protocol.client import agent_client
from good_tide.protocol.schedule_calls import ReadStandings
from good_tide.protocol.sockets import agent_socket


def standings_now(here: Workplace, jobs: Sequence[Job]) -> list[JobStanding]:
    """How some jobs stand now. While no agent runs that is a trouble of those that are to run by
    themselves."""
    with agent_client(agent_socket(here.runtime, here.settings)) as agent:
        if agent is not None:
            known = {one.job: one for one in agent.ask(ReadStandings())}
            return [known[job.id] for job in jobs if job.id in known]
    from good_tide.operations.schedule.standing import standings_without_agent  # loads all that a run needs

    return standings_without_agent(here, jobs)
