"""Why a port could not be opened, or disappeared: from what the operating system said."""

from __future__ import annotations

from typing import Literal

from ..errors import Fault, Finding, PortFault, usage
from ..frozen import frozen
from ..hookup.other_pins import PinFailed
from ..link import LinkError, LinkFlooded, LinkLost, RateRefused
from ..suggestions import nearest


@frozen
class PortListed:
    """A port as the system lists it. `label` is its product text, or whatever else is known of it."""

    name: str
    label: str = ""
    serial: str = ""


@frozen
class PortSeen:
    """What was wanted, and what the system said.

    `holders` are the programs that hold the port, as 'name (pid)'; `group` owns the device if permission is missing;
    `words` is the system's own message; `serial` is the serial number that the project file asks for.
    """

    wanted: str
    trouble: Literal["missing", "busy", "forbidden", "not a port", "vanished", "unreachable", "setting", "other"]
    words: str = ""
    listed: tuple[PortListed, ...] = ()
    holders: tuple[str, ...] = ()
    group: str = ""
    serial: str = ""
    setting: str = ""


def link_fault(port: str, error: LinkError) -> Fault:
    """A link's error as a fault of the port with that name."""
    match error:
        case LinkFlooded():
            return PortFault.of(
                "port-floods",
                f"{port} sends without pause, and more than a line carries",
                (error.reason,),
                ("is a serial port at that address?", "restart what serves it"),
            )
        case LinkLost():
            return PortFault(diagnose_port(PortSeen(port, "vanished", error.reason)))
        case RateRefused():
            return PortFault(diagnose_port(PortSeen(port, "setting", setting=str(error.settings))))
        case PinFailed():
            found = f"the {error.pin} pin could not be moved by {error.by}"
            cause = found if error.pin != "power" else f"the supply could not be switched by {error.by}"
            return PortFault.of("pin-not-moved", cause, (error.seen,), error.tries)
    return usage("no-lines", "this port has no DTR and RTS", "an adapter that has them, or by hand")


def diagnose_port(seen: PortSeen) -> Finding:
    """The one finding for a port's trouble."""
    evidence = (seen.words,) if seen.words else ()
    if seen.trouble == "missing":
        return _missing(seen, evidence)
    if seen.trouble == "busy":
        holders = ", ".join(seen.holders)
        cause = f"{seen.wanted} is held by {holders}" if holders else f"{seen.wanted} is held by another program"
        return Finding("port-busy", cause, evidence, ("close that program, or its serial window, and try again",))
    if seen.trouble == "forbidden":
        tries = ["ask the administrator of this computer for access to serial ports"]
        if seen.group and seen.group != "root":
            tries = [f"sudo usermod -aG {seen.group} $USER, then log out and in"]
        group = f": it belongs to the group {seen.group}" if seen.group else ""
        return Finding("port-forbidden", f"no permission to open {seen.wanted}{group}", evidence, tuple(tries))
    if seen.trouble == "not a port":
        return Finding(
            "port-not-serial", f"{seen.wanted} is not a serial port", evidence, ("greenstep ports lists them",)
        )
    if seen.trouble == "vanished":
        return Finding(
            "port-vanished",
            f"{seen.wanted} went away in the middle",
            evidence,
            (
                "check the plug and the cable",
                "if the board draws its supply from the port, give it one of its own",
                "then run the same command again",
            ),
        )
    if seen.trouble == "unreachable":
        mute = "timeout while waiting" in seen.words or "does not seem" in seen.words
        return Finding(
            "port-unreachable",
            f"{seen.wanted} does not answer as a serial port" if mute else f"nothing serves {seen.wanted}",
            evidence,
            ("is the other end running, and is the number after the colon right?",),
        )
    if seen.trouble == "setting":
        return Finding(
            "port-setting",
            f"{seen.wanted} does not take {seen.setting}",
            evidence,
            ("another --baud, one the adapter can make",),
        )
    return Finding("port", f"{seen.wanted} cannot be opened", evidence, ("greenstep ports lists the ports",))


def shared_port(port: str, use: str) -> Finding:
    """A port that the system itself uses: `console` or `login`."""
    tty = port.rpartition("/")[2]
    if use == "console":
        return Finding(
            "port-is-console",
            f"{port} is the system's console: the kernel's messages go to the chip, and the chip's answers to it",
            (f"console={tty} is in the kernel's command line, or /sys/class/tty/console/active names it",),
            (
                f"take console={tty} out of the kernel's command line (cmdline.txt or the like), and reboot",
                "another UART, or a USB adapter",
            ),
        )
    return Finding(
        "port-is-login",
        f"a login waits on {port}: it takes what the chip answers, and sends its prompt to it",
        (f"getty has {port} open",),
        (
            f"sudo systemctl stop serial-getty@{tty}; for good: sudo systemctl disable serial-getty@{tty}",
            "another UART, or a USB adapter",
        ),
    )


def no_adapter(ports: tuple[PortListed, ...]) -> Finding:
    """No port was named, and none of those there is an adapter's."""
    there = ", ".join(port.name for port in ports)
    return Finding(
        "no-adapter",
        "no USB adapter is plugged in",
        (f"only this computer's own {'port' if len(ports) == 1 else 'ports'}: {there}",),
        (
            "plug the adapter in; another cable: many carry power only; greenstep ports shows one without a driver",
            f"if you mean that port: --port {ports[0].name}",
        ),
    )


def _missing(seen: PortSeen, evidence: tuple[str, ...]) -> Finding:
    moved = [port for port in seen.listed if seen.serial and port.serial == seen.serial]
    if moved:
        return Finding(
            "port-moved",
            f"{seen.wanted} is now {moved[0].name}: the same serial number {seen.serial}",
            evidence,
            (f'use --port {moved[0].name}, or port = {{ serial = "{seen.serial}" }} in greenstep.toml',),
        )
    if not seen.listed:
        return Finding(
            "no-ports",
            f"there is no {seen.wanted}, nor any other serial port",
            evidence,
            ("plug the adapter in; try another cable: many carry power only", "is the adapter's driver installed?"),
        )
    near = nearest(seen.wanted, [port.name for port in seen.listed], 1, 0.7)
    there = ", ".join(f"{port.name}{f' ({port.label})' if port.label else ''}" for port in seen.listed[:6])
    return Finding(
        "no-such-port",
        f"there is no {seen.wanted}" if seen.wanted.startswith("port ") else f"there is no port {seen.wanted}",
        (*evidence, f"there is {there}"),
        (f"did you mean {near[0]}?" if near else "greenstep find-port finds it by its plug",),
    )
