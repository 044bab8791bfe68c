"""Boards with three wires, as a person meets them: what is asked, what is told meanwhile, what is left to do."""

from __future__ import annotations

import json
import unittest

import pexpect

from .support import COMMAND, ToolTest

HANDS = "bench:brood-probe?hands=2"


class TheEnd(ToolTest):
    def upload(self, *arguments: str, port: str = HANDS) -> object:
        return self.run_tool("upload", "brood-probe.hex", "--chip", "stm32f072", "--port", port, *arguments)

    def test_it_is_asked_for_waited_for_and_green_on_what_is_heard(self) -> None:
        run = self.upload("--wait", "--hookup", "by-hand")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "1. set BOOT0 low (jumper to 0)",
            "● put back reset by hand after",
            'heard "brood probe 1.7 ready"',
        ):
            self.assertIn(said, run.out)
        self.assertNotIn("before the next power-up", run.out)

    def test_without_a_terminal_it_is_the_last_line_and_a_field(self) -> None:
        run = self.upload("--hookup", "by-hand")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("◐ put back not waited for", run.out)
        last = run.out.strip().splitlines()[-1]
        self.assertEqual(last.strip(), "by hand, before the next power-up: set BOOT0 low (jumper to 0); press reset")
        ended = self.upload("--hookup", "by-hand", "--json").event("run-ended")
        self.assertEqual((ended["green"], ended["hands"]), (False, ["set BOOT0 low (jumper to 0)", "press reset"]))
        for step in ("put back", "start"):
            events = self.upload("--hookup", "by-hand", "--json").events
            self.assertEqual(
                next(e for e in events if e.get("step") == step and "outcome" in e)["outcome"], "unproven"
            )

    def test_where_nothing_can_be_heard_it_is_said(self) -> None:
        for arguments in (("greet",), ("erase", "--yes"), ("upload", "brood-probe.hex", "--no-start", "--wait")):
            run = self.run_tool(*arguments, "--chip", "stm32f072", "--port", HANDS, "--hookup", "by-hand")
            self.assertEqual((run.status, "before the next power-up" in run.out), (0, True), run.text)
            self.assertNotIn("listening for", run.out)

    def test_a_lock_and_a_restore_end_so_too(self) -> None:
        reach = ("--chip", "stm32f072", "--port", HANDS, "--hookup", "by-hand", "--wait")
        for arguments in (("lock",), ("restore", "brood-probe.hex")):
            run = self.run_tool(*arguments, *reach)
            self.assertEqual((run.status, "● put back" in run.out), (0, True), run.text)

    def test_a_boot_pin_that_stays_set_is_told_while_it_is_waited_for(self) -> None:
        (self.folder / "gateway.bin").write_bytes(b"41.3 kg\n" * 64)
        run = self.run_tool(
            "upload", "gateway.bin", "at", "0x290000", "--chip", "esp32", "--hookup", "by-hand", "--wait",
            "--port", "bench:esp32?hands=2&habit=forgets",
        )  # fmt: skip
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("heard    the board was reset with the boot pin still set", run.out)
        self.assertIn("again    1. press reset (EN) with the button at GPIO0 free", run.out)
        self.assertLess(run.out.index("still set"), run.out.index("● put back"))

    def test_who_never_puts_it_back_is_told_what_is_known(self) -> None:
        run = self.upload("--wait", "--hookup", "by-hand", port=f"{HANDS}&habit=leaves")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("its bootloader still answers", run.out)
        self.assertIn("it runs until the next reset", run.out)
        self.assertIn("before the next power-up", run.out)

    def test_only_the_boot_pin_where_lines_reset(self) -> None:
        run = self.run_tool(
            "upload", "brood-probe.hex", "--chip", "stm32f072", "--hookup", "dtr-reset-only", "--no-wait",
            "--port", "bench:brood-probe?hands=0", "--patience", "5",
        )  # fmt: skip
        self.assertIn("set BOOT0 low again", run.text)


class Meanwhile(ToolTest):
    def test_a_forgotten_boot_pin_is_told_at_once_and_asking_goes_on(self) -> None:
        port = "bench:brood-probe?hands=2&habit=forgets"
        run = self.run_tool("greet", "--chip", "stm32", "--hookup", "by-hand", "--port", port)
        self.assertEqual(run.status, 0, run.text)
        told = run.out.index("heard    the application answered")
        self.assertTrue(run.out.index("asking for") < told < run.out.index("● sync"))
        events = self.run_tool("greet", "--chip", "stm32", "--hookup", "by-hand", "--port", port, "--json").events
        heard = [event for event in events if event["event"] == "heard-meanwhile"]
        self.assertEqual([event["finding"]["key"] for event in heard], ["application"])

    def test_a_loader_that_was_reset_again_is_asked_for_again(self) -> None:
        port = "bench:brood-probe?hands=2&habit=twice"
        run = self.run_tool("upload", "brood-probe.hex", "--chip", "stm32f072", "--hookup", "by-hand", "--port", port)
        self.assertEqual((run.status, "● verify" in run.out), (0, True), run.text)

    def test_a_habit_without_hands(self) -> None:
        for port in ("bench:brood-probe?habit=twice", "bench:brood-probe?hands=2&habit=sings"):
            run = self.run_tool("greet", "--port", port)
            self.assertEqual((run.status, "habit is" in run.err), (2, True), run.text)


class OwnWay(ToolTest):
    TOML = (
        '[board.scale]\nchip = "stm32f072"\nhookup = "by-hand"\nport = "bench:brood-probe?hands=2"\n'
        'images = ["brood-probe.hex"]\n'
        'by_hand = { load = ["short the pads of port 5", "press RESET"], run = ["open the pads", "press RESET"] }\n'
    )

    def test_it_is_said_everywhere(self) -> None:
        self.project(self.TOML)
        for arguments in (("upload", "scale", "--wait"), ("wiring", "scale"), ("reset", "scale")):
            run = self.run_tool(*arguments)
            self.assertEqual(run.status, 0, run.text)
            self.assertIn("open the pads", run.out)
            self.assertNotIn("BOOT0 low (jumper", run.out)
        self.assertIn("1. short the pads of port 5", self.run_tool("upload", "scale").out)

    def test_by_option_and_what_is_wrong(self) -> None:
        run = self.run_tool(
            "wiring", "--chip", "stm32f072", "--by-hand", "load: short JP1", "--by-hand", "run: open JP1"
        )
        self.assertTrue("1. short JP1" in run.out and "1. open JP1" in run.out, run.text)
        wrong = self.run_tool("wiring", "--chip", "stm32f072", "--by-hand", "short JP1")
        self.assertEqual((wrong.status, "write 'load: MOVE'" in wrong.text), (2, True), wrong.text)
        self.project(self.TOML.replace("load =", "enter ="))
        self.assertIn("by_hand is", self.run_tool("upload", "scale").err)


class Plug(ToolTest):
    def test_an_upload_begins_when_the_board_is_there(self) -> None:
        bench = self.served("brood-probe", "--pty", "--hands", "0.3")
        place = self.folder / "tty-probe"
        running = self.start_tool(
            "upload", "brood-probe.hex", "--chip", "stm32f072", "--hookup", "by-hand", "--port", str(place),
            "--when-plugged", "--no-wait",
        )  # fmt: skip
        assert running.stderr is not None
        first = running.stderr.readline()
        self.assertTrue("First: set BOOT0 high" in first and "Plug it in now" in first, first)
        place.symlink_to(bench.port("brood-probe"))
        out, err = running.communicate(timeout=60)
        self.assertEqual((running.returncode, "● verify" in out), (0, True), out + err)

    def test_nobody_plugs_anything_in(self) -> None:
        run = self.run_tool(
            "upload", "brood-probe.hex", "--chip", "stm32f072", "--port", "/dev/tty-none", "--when-plugged",
            "--patience", "0.3",
        )  # fmt: skip
        self.assertEqual((run.status, "no port was plugged in within 0.3 s" in run.text), (3, True), run.text)


class NothingButAFile(ToolTest):
    def test_what_is_there_is_found_out(self) -> None:
        run = self.run_tool("upload", "brood-probe.hex", "--port", "bench:brood-probe?known=no")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "so it is --chip stm32 --hookup dtr-reset-rts-boot",
            "STM32F07x holds brood-probe.hex",
            "1.6 -> 1.7",
        ):
            self.assertIn(said, run.out)

    def test_by_hand_too(self) -> None:
        run = self.run_tool("upload", "brood-probe.hex", "--port", "bench:brood-probe?known=no&hands=0.5&lines=none")
        self.assertEqual((run.status, "so it is --chip stm32 --hookup by-hand" in run.out), (0, True), run.text)
        self.assertIn("before the next power-up", run.out)

    def test_kinds_that_answer_alike_are_asked_for(self) -> None:
        reach = ("upload", "hive-scale.hex", "--port", "bench:hive-scale?known=no")
        alone = self.run_tool(*reach)
        self.assertEqual((alone.status, "--chip atmega328p" in alone.text), (5, True), alone.text)
        child = pexpect.spawn(
            COMMAND, [*reach], cwd=str(self.folder), timeout=60,
            env=self.environment(TERM="xterm"),  # type: ignore[arg-type]
        )  # fmt: skip
        child.expect("What is on the package")
        child.sendline("1")
        child.expect("holds hive-scale.hex")
        child.expect(pexpect.EOF)


class PassingBytes(ToolTest):
    def test_they_are_shown_between_the_steps(self) -> None:
        run = self.run_tool("greet", "--port", "bench:brood-probe", "--show-line")
        for said in ("lines  DTR on, RTS off", "sent   7F", "heard  79", "sent   00 FF"):
            self.assertIn(said, run.out)
        self.assertLess(run.out.index("sent   7F"), run.out.index("● sync"))
        lines = self.run_tool("greet", "--port", "bench:brood-probe", "--show-line", "--json").out.splitlines()
        self.assertIn("passed", {json.loads(line)["event"] for line in lines})

    def test_a_secret_is_no_byte_to_show(self) -> None:
        self.project(
            '[board.scale]\nchip = "atmega328p"\nport = "bench:hive-scale"\nimages = ["hive-scale.hex"]\n'
            'talk = [{ secret = "HIVE_KEY" }]\n'
        )
        run = self.run_tool("upload", "scale", "--show-line", HIVE_KEY="nectar")
        self.assertEqual(run.status, 0, run.text)
        self.assertNotIn(b"nectar".hex(" ").upper(), run.out)
        self.assertIn("2A 2A 2A 2A 2A 2A", run.out)


if __name__ == "__main__":
    unittest.main()
