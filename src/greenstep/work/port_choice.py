"""Which port is meant, and opening it: by name, by what `find-port` remembered, with or without a recording."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from greenstep.core.errors import PortFault, usage
from greenstep.core.safety.secrets import Secrets

from .board import NO_PORT, Board

if TYPE_CHECKING:
    from greenstep.core.engine.job import Job, OpenedPort, OpenLink
    from greenstep.core.link import LineSettings, Link
    from greenstep.ports.discovery import Known, PortInfo
    from greenstep.ports.turns import Loan
    from greenstep.store.board import PortChoice

    from .prompter import Prompter


_GIVEN_BACK_S = 2.0
BENCH = "bench:"
"""How the name of a simulated board begins, where a port is expected."""


def known_ports() -> dict[str, Known]:
    """The ports that `find-port` remembered. Raises UsageFault."""
    from greenstep.ports.discovery import Known
    from greenstep.store.aliases import read_aliases

    return {name: Known(**keys) for name, keys in read_aliases().items()}


def remember_port(name: str, ports: Sequence[PortInfo]) -> str:
    """Store a port under a name; returns in words what was stored. Raises UsageFault."""
    from dataclasses import asdict

    from greenstep.ports.discovery import known_by
    from greenstep.store.aliases import write_alias

    if len(ports) != 1:
        raise usage("several-ports", f"{len(ports)} ports changed: which is '{name}'?", "unplug the other devices")
    port = ports[0]
    known = known_by(port)
    if known is None:
        raise usage(
            "unknown-again",
            f"{port.name} has neither serial number nor place to recognise it by",
            f"use its name: --port {port.name}",
        )
    path = write_alias(name, asdict(known))
    by = f"serial number {known.serial}" if known.serial else f"its place on the USB, {known.location}"
    return f"remembered as {name}, by {by} ({path})"


def port_name(wanted: PortChoice | None) -> str:
    """The port by name, by serial number, by the name under which `find-port` remembered it, or the only one there
    is. Raises UsageFault, PortFault."""
    if wanted is not None and wanted.name:
        alias = wanted.name if _is_alias(wanted.name) else ""
        return _remembered(alias) if alias else wanted.name
    if wanted is not None and wanted.remembered:
        return _remembered(wanted.remembered)
    from greenstep.ports.discovery import listed_ports, port_with_serial

    if wanted is not None:
        found = port_with_serial(wanted.serial)
        if found is None:
            raise _port_fault(f"port with serial number {wanted.serial}", "missing", "", listed_ports())
        return found
    from greenstep.core.findings.port_rules import no_adapter
    from greenstep.ports.discovery import find_ports

    found_ports = find_ports()
    adapters = [port for port in found_ports if port.usb]
    if len(adapters) == 1:
        return adapters[0].name
    ports = listed_ports() if not adapters else tuple(adapters)
    if not ports:
        raise _port_fault("port", "missing", "", ())
    if not adapters:
        raise PortFault(no_adapter(listed_ports()))
    there = ", ".join(port.name for port in ports)
    raise usage(
        "which-port", "which port?", f"--port NAME: there are {there}", "greenstep find-port finds it by its plug"
    )


def _port_fault(*seen: Any, **more: Any) -> PortFault:
    """What is wrong with a port, according to `PortSeen`, with its finding."""
    from greenstep.core.findings.port_rules import PortSeen, diagnose_port

    return PortFault(diagnose_port(PortSeen(*seen, **more)))


def _is_alias(name: str) -> bool:
    """Whether a port's name was given by a person: no device, no URL."""
    if name == NO_PORT or "/" in name or ":" in name:
        return False
    return not Path(name).exists() and name in known_ports()


def _remembered(alias: str) -> str:
    """The port that is remembered as `alias`. Raises UsageFault, PortFault."""
    from greenstep.ports.discovery import find_ports, listed_ports

    known = known_ports().get(alias)
    if known is None:
        there = ", ".join(known_ports()) or "none yet"
        raise usage(
            "no-such-alias",
            f"no port is remembered as '{alias}'",
            f"greenstep find-port {alias}",
            f"there are: {there}",
        )
    found = next((port.name for port in find_ports() if known.is_that(port)), None)
    if found is None:
        raise _port_fault(f"port '{alias}'", "missing", "", listed_ports())
    return found


def loan_of(port: str, who: str) -> Loan | None:
    """How a port is asked for from a console that holds it; None for a simulated one."""
    if port.startswith(BENCH) or port == NO_PORT:
        return None
    from greenstep.ports.turns import Loan

    return Loan(port, who)


@contextmanager
def borrowed(port: str, who: str) -> Iterator[None]:
    """A context in which a console that holds the port has stepped aside."""
    loan = loan_of(port, who)
    if loan is not None:
        loan.ask()
    try:
        yield
    finally:
        if loan is not None:
            loan.give_back()


def opener(job: Job, prompter: Prompter, trace: Path | None = None, loan: Loan | None = None) -> OpenLink:
    """Opens the job's port for the run, and records the line in `trace` if given; a console that holds the port is
    asked for it with `loan`."""
    notes = _notes(job.board, job.port, job.hookup.name, job.dialect.name, job.choice.name)

    def open_link(settings: LineSettings, lines: tuple[bool, bool]) -> OpenedPort:
        lent = loan is not None and loan.ask()
        opened = _open(job.port, settings, lines, job.port_serial, job.keeps_open)
        if lent:
            opened = replace(opened, evidence=f"{opened.evidence}; the console stepped aside")
        return opened if trace is None else _traced(opened, trace, lines, job.secrets, notes, prompter)

    return open_link


def _open(name: str, settings: LineSettings, lines: tuple[bool, bool], serial_number: str, lasts: bool) -> OpenedPort:
    """A port of this computer, or a simulated board. Raises PortFault, UsageFault."""
    if name.startswith(BENCH):
        from greenstep.bench.port import open_bench

        return open_bench(name, settings, lines, lasts)
    from greenstep.ports.opening import open_port

    return open_port(name, settings, lines, serial_number)


def open_now(port: str, settings: LineSettings, lines: tuple[bool, bool]) -> Link:
    """A port, at once or not at all. Raises PortFault."""
    return _open(port, settings, lines, "", True).link


def open_again(port: str, settings: LineSettings, lines: tuple[bool, bool]) -> Link:
    """A port that another command had in between. Raises PortFault if it cannot be had again."""
    import time

    end_s = time.monotonic() + _GIVEN_BACK_S
    while True:
        try:
            return _open(port, settings, lines, "", True).link
        except PortFault:
            if time.monotonic() > end_s:
                raise
            time.sleep(0.05)


def open_board_port(
    board: Board,
    line: LineSettings,
    lines: tuple[bool, bool],
    prompter: Prompter,
    trace: Path | None = None,
    secrets: Secrets | None = None,
    lasts: bool = False,
) -> OpenedPort:
    """Open a board's port outside a run, recorded in `trace` if given. `lasts`: the caller goes on listening. Raises
    PortFault, UsageFault."""
    settings = board.settings
    name = port_name(settings.port)
    opened = _open(name, line, lines, settings.port.serial if settings.port else "", lasts)
    if trace is None:
        return opened
    notes = _notes(board.name, name, "", settings.dialect or "", settings.chip or "")
    return _traced(opened, trace, lines, secrets or Secrets(), notes, prompter)


def _notes(board: str, port: str, hookup: str, dialect: str, chip: str) -> dict[str, str]:
    notes = {"board": board, "chip": chip, "dialect": dialect, "hookup": hookup, "port": port}
    return {name: value for name, value in notes.items() if value}


def _traced(
    opened: OpenedPort,
    path: Path,
    lines: tuple[bool, bool],
    secrets: Secrets,
    notes: dict[str, str],
    prompter: Prompter,
) -> OpenedPort:
    from greenstep.core.engine.job import OpenedPort
    from greenstep.ports.tracing import TracingLink

    return OpenedPort(TracingLink(opened.link, path, lines, secrets, notes, prompter.tell), opened.evidence)


@contextmanager
def link_faults(board: Board) -> Iterator[None]:
    """A link's errors outside a run, as faults: it disappeared, it has no lines, it cannot make a rate."""
    from greenstep.core.findings.port_rules import link_fault
    from greenstep.core.link import LinkError

    wanted = board.settings.port
    name = wanted.name if wanted and wanted.name else "the port"
    try:
        yield
    except LinkError as error:
        raise link_fault(name, error) from error
