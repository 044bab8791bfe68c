"""Pins that no line of the port reaches: moved by programs of the person's own, or by pins of this computer."""

from __future__ import annotations

import unittest
import zipfile

from .support import ToolTest

GPIOD = '''"""Stands in for the package of the same name, and writes down what is asked of it."""
from types import SimpleNamespace
import os
def note(text):
    with open(os.environ["PINS_LOG"], "a") as log:
        log.write(text + "\\n")
class LineSettings(SimpleNamespace):
    pass
class Request:
    def __init__(self, path): self.path = path
    def set_value(self, line, value): note(f"{self.path} {line} {value}")
    def release(self): note(f"{self.path} let go")
def request_lines(path, consumer, config):
    if not path.endswith("gpiochip0"):
        raise FileNotFoundError(2, "No such file or directory")
    for line, settings in config.items():
        low = "low" if settings.active_low else "high"
        note(f"{path} {line} {settings.output_value} {settings.drive} active {low} by {consumer}")
    return Request(path)
'''
GPIOD_LINE = """class Direction: OUTPUT = "output"
class Drive: PUSH_PULL = "push-pull"; OPEN_DRAIN = "open drain"
class Value: ACTIVE = "active"; INACTIVE = "inactive"
"""
RELAY = '#!/bin/sh\necho "$@" >> "$PINS_LOG"\nexit ${RELAY_ENDS:-0}\n'


class Outside(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        self.log = self.folder / "pins.log"
        relay = self.folder / "relay.sh"
        relay.write_text(RELAY)
        relay.chmod(0o755)
        package = self.folder / "gpiod"
        package.mkdir()
        (package / "__init__.py").write_text(GPIOD)
        (package / "line.py").write_text(GPIOD_LINE)

    def environment(self, **variables: str) -> dict[str, str]:
        return super().environment(PINS_LOG=str(self.log), PYTHONPATH=str(self.folder), **variables)

    def board(self, hookup: str) -> None:
        """A person at the bench presses the buttons meanwhile: what the programs do reaches no simulated chip."""
        self.project(
            '[board.brood-probe]\nchip = "stm32f072"\nport = "bench:brood-probe?hands=0.5"\n'
            f'images = ["brood-probe.hex"]\nhookup = {hookup}\n'
        )

    def moves(self) -> list[str]:
        return self.log.read_text().splitlines() if self.log.exists() else []

    PROGRAMS = (
        '{ reset = { run_on = ["./relay.sh", "reset", "low"], run_off = ["./relay.sh", "reset; free"] }, '
        'boot = { run_on = ["./relay.sh", "boot", "high"], run_off = ["./relay.sh", "boot", "low"] } }'
    )

    def test_programs_are_run_in_order_without_a_shell(self) -> None:
        self.board(self.PROGRAMS)
        done = self.run_tool("upload", "brood-probe")
        self.assertEqual(done.status, 0, done.text)
        self.assertIn("reset moved by a program (relay.sh), boot pin by a program (relay.sh)", done.out)
        self.assertEqual(
            self.moves(), ["boot high", "reset low", "reset; free", "boot low", "reset low", "reset; free"]
        )

    def test_a_program_that_fails_ends_the_run_with_what_it_said(self) -> None:
        self.board(self.PROGRAMS)
        failed = self.run_tool("upload", "brood-probe", RELAY_ENDS="3")
        self.assertEqual(failed.status, 3, failed.text)
        self.assertIn("the boot pin could not be moved by a program (relay.sh)", failed.out)
        self.assertIn("relay.sh boot high ended with 3", failed.out)
        self.assertIn("nothing on the chip was changed", failed.out)
        self.board('{ power = { run_on = ["no-such-relay", "1"], run_off = ["no-such-relay", "0"] } }')
        missing = self.run_tool("greet", "brood-probe")
        self.assertIn("the supply could not be switched by a program (no-such-relay)", missing.text)

    def test_pins_of_this_computer(self) -> None:
        self.board('{ reset = { gpio = "gpiochip0:17" }, boot = { gpio = "/dev/gpiochip0:4", selected = "high" } }')
        done = self.run_tool("greet", "brood-probe")
        self.assertEqual(done.status, 0, done.text)
        self.assertIn("reset moved by gpiochip0:17, boot pin by gpiochip0:4", done.out)
        device = "/dev/gpiochip0"
        self.assertEqual(
            self.moves()[:3],
            [
                f"{device} 4 active push-pull active high by greenstep",
                f"{device} 17 active open drain active low by greenstep",
                f"{device} 17 inactive",
            ],
        )
        self.assertEqual(self.moves()[-2:], [f"{device} let go"] * 2)

    def test_a_computer_without_that_pin(self) -> None:
        self.board('{ reset = { gpio = "gpiochip7:17" } }')
        failed = self.run_tool("greet", "brood-probe")
        self.assertEqual(failed.status, 3, failed.text)
        self.assertIn("the reset pin could not be moved by gpiochip7:17", failed.text)
        self.assertIn("No such file or directory", failed.text)

    def test_the_supply_is_switched_where_nothing_else_resets(self) -> None:
        self.board('{ power = { run_on = ["./relay.sh", "on"], run_off = ["./relay.sh", "off"] } }')
        shown = self.run_tool("hookup", "show", "brood-probe")
        self.assertIn("power off; wait 500 ms; power on", shown.out)
        self.assertIn("power  by a program (relay.sh)", shown.out)
        self.assertEqual(self.run_tool("reset", "brood-probe", "--into-loader").status, 0)
        self.assertEqual(self.moves(), ["off", "on"])

    def test_programs_come_from_the_persons_own_file_only(self) -> None:
        asked = self.run_tool(
            "greet", "--chip", "stm32f072", "--port", "bench:brood-probe", "--hookup", self.PROGRAMS
        )
        self.assertEqual(asked.status, 2, asked.text)
        self.assertIn("programs are only run from your own project file", asked.err)
        told = self.run_tool(
            "greet", "--chip", "stm32f072", "--port", "bench:brood-probe", GREENSTEP_HOOKUP=self.PROGRAMS
        )
        self.assertEqual(told.status, 2, told.text)
        self.board(self.PROGRAMS)
        made = self.run_tool("kit", "make", "brood-probe", "--save", "probe.kit")
        self.assertEqual(made.status, 2, made.text)
        self.assertIn("runs programs to move its pins, or pins of this computer, and a kit may not", made.err)
        self.board('{ reset = { gpio = "gpiochip0:17" } }')
        self.assertEqual(self.run_tool("kit", "make", "brood-probe", "--save", "probe.kit").status, 2)
        self.assertEqual(self.moves(), [])

    def test_a_kit_that_would_run_programs_is_refused(self) -> None:
        self.board('"dtr-reset-rts-boot"')
        self.assertEqual(self.run_tool("kit", "make", "brood-probe", "--save", "probe.kit").status, 0)
        with zipfile.ZipFile(self.folder / "probe.kit") as whole:
            members = {name: whole.read(name) for name in whole.namelist()}
        manifest = next(name for name in members if name.endswith(".toml"))
        text = members[manifest].decode().replace('hookup = "dtr-reset-rts-boot"', f"hookup = {self.PROGRAMS}")
        self.assertIn("run_on", text)
        with zipfile.ZipFile(self.folder / "worse.kit", "w") as worse:
            for name, data in {**members, manifest: text.encode()}.items():
                worse.writestr(name, data)
        for command in (("upload", "worse.kit"), ("kit", "show", "worse.kit")):
            refused = (
                self.run_tool(*command, "--port", "bench:brood-probe")
                if command[0] == "upload"
                else self.run_tool(*command)
            )
            self.assertIn("would run a program, by hookup of brood-probe", refused.text)
            self.assertNotEqual(refused.status, 0)
        self.assertEqual(self.moves(), [])

    def test_what_is_written_wrong_is_named(self) -> None:
        for hookup, words in (
            ('{ reset = { run_on = "relay on" , run_off = ["relay"] } }', "reset.run_on is 'relay on'"),
            ('{ reset = { run_on = ["relay"] } }', "reset.run_off is None"),
            ('{ reset = { gpio = "17" } }', "reset.gpio is '17'"),
            ('{ power = { gpio = "gpiochip0:4", on = "up" } }', "power.on is 'up'"),
            ('{ power = { gpio = "gpiochip0:4", held = "low" } }', "power has no 'held'"),
        ):
            with self.subTest(hookup=hookup):
                self.board(hookup)
                refused = self.run_tool("greet", "brood-probe")
                self.assertEqual(refused.status, 2, refused.text)
                self.assertIn(words, refused.err)


if __name__ == "__main__":
    unittest.main()
