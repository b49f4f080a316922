"""The agent: run, started with every session, asked about."""

from __future__ import annotations

import contextlib
import os
import signal
import threading
import time
from collections.abc import Callable
from pathlib import Path

import click

from good_tide import __version__
from good_tide.cli import output
from good_tide.cli.options import json_option
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import PATH, quiet_json_option
from good_tide.core.errors import GoodTideError, PlaceError
from good_tide.core.translation import tr
from good_tide.operations.workplace import this_workplace
from good_tide.protocol.agent_calls import AgentFacts, Hello
from good_tide.protocol.client import agent_client
from good_tide.protocol.contract import PROTOCOL_VERSION
from good_tide.protocol.sockets import agent_socket
from good_tide.protocol.starting import start_agent
from good_tide.system import service

_STARTS_SECONDS, _ENDS_SECONDS = 20.0, 70.0
_BY = {
    "systemd": tr("It is started with every session by systemd."),
    "autostart": tr("It is started with every session by the desktop."),
    "nothing": tr("It is not started by itself. “good-tide agent install” changes that."),
}


@click.group("agent", invoke_without_command=True)
@click.pass_context
def agent_group(context: click.Context) -> int:
    """The agent, which takes snapshots by itself and works for the window. Without a further word it is
    run."""
    return _run(None, False) if context.invoked_subcommand is None else output.DONE


def _run(settings: Path | None, while_used: bool) -> int:
    os.environ.setdefault(
        "OPENBLAS_NUM_THREADS", "1"
    )  # NumPy's linear algebra is not used; its threads would only take memory
    from good_tide.agent.service import run_agent  # not needed by any other command

    return run_agent(settings, while_used)


@agent_group.command("run")
@click.option("--settings", type=PATH, help=tr("Folder with the job's settings."))
@click.option(
    "--while-used",
    is_flag=True,
    help=tr("End when no window is connected any more and nothing is being done."),
)
@quiet_json_option
def agent_run(settings: Path | None, while_used: bool) -> int:
    """Run it, until it is told to end."""
    return _run(settings, while_used)


@agent_group.command("install")
@json_option
def agent_install(as_json: bool) -> int:
    """Start it with every session: by systemd, or by the desktop where there is none; and now."""
    install_agent()
    return _say(service.state(), as_json)


@agent_group.command("remove")
@json_option
def agent_remove(as_json: bool) -> int:
    """Start it no longer by itself, and end it. Jobs, stores and snapshots stay."""
    remove_agent()
    _say(service.state(), as_json)
    return output.DONE


@agent_group.command("start")
@json_option
def agent_start(as_json: bool) -> int:
    """Start it now, unless it runs."""
    _start()
    return _say(service.state(), as_json)


@agent_group.command("stop")
@json_option
def agent_stop(as_json: bool) -> int:
    """End it. What it is doing is stopped, and goes on later."""
    _stop()
    _say(service.state(), as_json)
    return output.DONE


@agent_group.command("restart")
@json_option
def agent_restart(as_json: bool) -> int:
    """End it, and start it again: after another version was installed, say."""
    _stop()
    _start()
    return _say(service.state(), as_json)


def install_agent() -> None:
    """Start the agent with every session, and now."""
    service.install(_hello() is not None)
    _start()


def remove_agent() -> None:
    """Start the agent no longer by itself, and end it."""
    service.remove()
    _stop()


def _start() -> None:
    """Start it, by what starts it with every session where there is such a thing, and wait until it answers.

    Raises:
        PlaceError: it does not start.
    """
    if _hello() is None:
        if service.state().by != "systemd" or not service.start():
            start_agent(this_workplace().settings, while_used=False)
        if not _within(_STARTS_SECONDS, lambda: not _has_gone() and _hello() is not None):
            raise PlaceError(tr("The agent does not start"), tr("Run “good-tide agent run” to see why"))


def _stop() -> None:
    """End it, and wait until it has gone.

    Raises:
        PlaceError: it does not end.
    """
    hello = _hello()
    if hello is None:
        return
    if not (service.state().active and service.stop()):
        with contextlib.suppress(ProcessLookupError):
            os.kill(hello.process, signal.SIGTERM)
    if not _within(_ENDS_SECONDS, _has_gone):
        raise PlaceError(
            tr("The agent does not end"), tr("Something holds it up: a disk that does not answer, say")
        )


def _has_gone() -> bool:
    """Whether no agent answers any more; one that is ending still holds its socket."""
    try:
        return _hello() is None
    except GoodTideError:
        return False


def _within(seconds: float, true: Callable[[], bool]) -> bool:
    ends, pause = time.monotonic() + seconds, threading.Event()
    while not true():
        if time.monotonic() > ends:
            return False
        pause.wait(0.1)
    return True


@agent_group.command("status")
@json_option
def agent_status(as_json: bool) -> int:
    """Whether it runs, and how it is started. Ends with 1 when it does not run, or is of another version."""
    return _say(service.state(), as_json)


def _hello() -> AgentFacts | None:
    """What a running agent says of itself; None while none runs."""
    here = this_workplace()
    with agent_client(agent_socket(here.runtime, here.settings)) as agent:
        return agent.ask(Hello()) if agent is not None else None


def _say(state: service.ServiceState, as_json: bool) -> int:
    hello = _hello()
    same = hello is not None and (hello.version, hello.protocol) == (__version__, PROTOCOL_VERSION)
    if as_json:
        print_json(
            {
                "running": hello is not None,
                "version": hello.version if hello is not None else None,
                "same_version": same if hello is not None else None,
                "process": hello.process if hello is not None else None,
                "started_by": state.by,
                "file": state.file or None,
            }
        )
    else:
        if hello is None:
            say(tr("The agent is not running."))
        else:
            other = (
                ""
                if same
                else ", "
                + tr("while this command is of version {version}: restart it").format(version=__version__)
            )
            say(
                tr("The agent is running, version {version}, process {process}{other}.").format(
                    version=hello.version, process=hello.process, other=other
                )
            )
        say(_BY[state.by] + (f" ({state.file})" if state.file else ""))
    return output.DONE if same else output.WITH_GAPS
