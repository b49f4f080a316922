"""The command line: which commands there are, and how they end."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from good_tide import __version__
from good_tide.cli import output
from good_tide.cli.groups import LazyGroup
from good_tide.cli.parameters import PATH
from good_tide.core.errors import GoodTideError, PersonError, of_system
from good_tide.core.translation import tr
from good_tide.system.developer_log import Private, end_log, logger, start_log
from good_tide.system.folders import state_folder
from good_tide.system.limits import set_process_limits

_COMMANDS = {
    "snapshot": "snapshot_commands",
    "history": "history_commands",
    "contents": "history_commands",
    "versions": "version_commands",
    "show": "version_commands",
    "find": "find_commands",
    "missing": "find_commands",
    "differences": "differences_commands",
    "changes": "changes_commands",
    "export": "export_commands",
    "export-versions": "export_commands",
    "import": "import_commands",
    "restore": "restore_commands",
    "undo": "restore_commands",
    "restores": "restores_commands",
    "verify": "integrity_commands",
    "repair": "integrity_commands",
    "prove": "integrity_commands",
    "alarm": "alarm_commands",
    "demo": "window_commands",
    "window": "window_commands",
    "panel": "window_commands",
    "disks": "disk_commands",
    "place": "place_commands",
    "job": "job_group",
    "machine": "machine_commands",
    "coverage": "coverage_commands",
    "stand-in": "stand_in_commands",
    "unlock": "unlock_commands",
    "status": "status_commands",
    "rhythm": "upkeep_commands",
    "pause": "upkeep_commands",
    "resume": "upkeep_commands",
    "run-due": "upkeep_commands",
    "eject": "upkeep_commands",
    "agent": "agent_commands",
    "desktop": "desktop_commands",
    "install": "install_commands",
    "uninstall": "install_commands",
    "ladder": "bounds_commands",
    "thin": "bounds_commands",
    "release": "bounds_commands",
    "pin": "bounds_commands",
    "sweep": "bounds_commands",
    "room": "room_commands",
    "purge": "room_commands",
    "journal": "telling_commands",
    "report": "telling_commands",
    "mail": "telling_commands",
    "fleet": "fleet_commands",
    "mount": "mount_commands",
    "unmount": "mount_commands",
    "mounts": "mount_commands",
}
"""In which module each command is; there it is called ``…_command``, or ``…_group``."""
_STORE_COMMANDS = dict.fromkeys(
    ("create", "about", "carry", "passphrase", "slots", "recovery-script"), "store_commands"
)


@click.group(
    cls=LazyGroup,
    modules=_COMMANDS,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110},
)
@click.version_option(__version__, message="Good Tide %(version)s")
@click.option(
    "--settings",
    type=PATH,
    metavar="DIR",
    help=tr("Another settings folder than this person's own, such as the demo's."),
)
@click.option(
    "--verbose",
    is_flag=True,
    help=tr("Say on standard error what the program does, with names of files, and keep it in its log."),
)
def cli(settings: Path | None, verbose: bool) -> None:
    """Point-in-time snapshots of user folders: deduplicated, encrypted, and easy to get back.

    STORE is a store's folder, or the name of its disk in a job, or of a job with one store.

    Exit codes: 0 done; 1 done, with something left out and named; 2 wrong usage; 3 the store or disk cannot
    be used now; 4 the store is damaged; 5 stopped.
    """
    command = click.get_current_context().invoked_subcommand
    kind = command if command in ("agent", "window", "panel", "demo") else "command"
    start_log(state_folder() / "log", kind, verbose)
    logger.info("good-tide %s %s, Python %s", __version__, command, sys.version.split()[0])
    if settings is not None:
        from good_tide.operations.workplace import use_settings  # as commands are, only when it is needed

        use_settings(settings)


@cli.group("store", cls=LazyGroup, modules=_STORE_COMMANDS)
def store_group() -> None:
    """Make a store, or ask about one."""


def main() -> None:
    """Run a command; every error a person or a disk can cause becomes a sentence and an exit code."""
    set_process_limits()
    output.make_writable()
    as_json = "--json" in sys.argv
    try:
        code = cli.main(standalone_mode=False)
    except GoodTideError as error:
        logger.info("%s: %s", type(error).__name__, Private(error))
        output.print_error(error, as_json)
        code = output.exit_code(error)
    except click.ClickException as error:
        if as_json:
            output.print_error(PersonError(error.format_message(), tr("See --help")), as_json)
        else:
            error.show()
        code = output.WRONG_USAGE
    except SystemExit as end:  # click ends so when the reader of a pipe has gone
        code = output.STOPPED if output.nobody_reads() else end.code
    except (click.Abort, KeyboardInterrupt):
        code = output.STOPPED
    except BrokenPipeError:
        sys.stderr.close()
        code = output.STOPPED
    except OSError as error:
        output.print_error(of_system(error), as_json)
        code = output.NOT_USABLE
    code = code if isinstance(code, int) else output.DONE
    logger.info("ends with %d", code)
    end_log()
    sys.exit(code)
