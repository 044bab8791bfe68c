"""Commands from plugged-in to answering: find-port, init, boards, wiring, hookup, rates, greet with a port alone."""

from __future__ import annotations

import json
import tomllib
import unittest
from typing import Any

import pexpect

from .support import COMMAND, ToolTest

PNG, SVG = b"\x89PNG\r\n\x1a\n", b"<?xml"


class Project(ToolTest):
    def test_init_by_options_writes_a_board_that_works(self) -> None:
        bench = self.bench("brood-probe")
        run = self.run_tool(
            "init", "brood-probe", "--chip", "stm32f072rb", "--port", bench.port("brood-probe"), "--hookup", "dtr-reset-rts-boot",
            "--images", "brood-probe.hex", "--expect", "brood probe 1.7",
        )  # fmt: skip
        self.assertEqual(run.status, 0, run.text)
        table = tomllib.loads((self.folder / "greenstep.toml").read_text())
        self.assertEqual(table["board"]["brood-probe"]["images"], ["brood-probe.hex"])
        upload = self.run_tool("upload", "brood-probe")
        self.assertEqual(upload.status, 0, upload.text)
        self.assertIn("brood-probe runs brood-probe.hex", upload.out)

    def test_a_second_board_leaves_the_first_and_its_comments(self) -> None:
        self.project('# mine\n[board.hive-scale]\nchip = "atmega328p" # soldered\n')
        arguments = (
            "init",
            "brood-probe",
            "--chip",
            "stm32",
            "--port",
            "/dev/ttyUSB0",
            "--images",
            "probe.bin at 0x08004000",
        )
        self.assertEqual(self.run_tool(*arguments, "--hookup", '{ like = "dtr-reset-rts-boot" }').status, 0)
        text = (self.folder / "greenstep.toml").read_text()
        for kept in ("# mine", "# soldered", "at = 0x08004000", 'like = "dtr-reset-rts-boot"'):
            self.assertIn(kept, text)
        again = self.run_tool(*arguments)
        self.assertEqual((again.status, "has a board 'brood-probe' already" in again.err), (2, True))
        self.assertEqual(self.run_tool(*arguments, "--replace", "--baud", "57600").status, 0)
        self.assertEqual(
            tomllib.loads((self.folder / "greenstep.toml").read_text())["board"]["brood-probe"]["baud"], 57600
        )

    def test_without_a_terminal_what_would_be_asked_names_its_option(self) -> None:
        for arguments, said in (
            ((), "greenstep init NAME"), (("a",), "--chip"), (("a", "--chip", "teapot", "--port", "x"), "no chip is called"),
            (("a b", "--chip", "avr", "--port", "x"), "not a valid board name"),
            (("a", "--chip", "avr", "--port", "x", "--hookup", "magic"), "no hookup is called"),
        ):  # fmt: skip
            with self.subTest(said):
                run = self.run_tool("init", *arguments)
                self.assertEqual((run.status, said in run.err), (2, True), run.err)
        self.assertFalse((self.folder / "greenstep.toml").exists())

    def test_boards_says_what_is_ready_and_what_is_not(self) -> None:
        self.project(
            '[board.hive-scale]\nchip = "atmega328p"\nport = "/dev/ttyUSB77"\nimages = ["hive-scale.hex"]\n'
            '[board.brood-probe]\nchip = "stm32f072rb"\nport = { serial = "0042" }\nimages = ["gone.hex"]\n'
            '[board.rain-gauge]\nchip = "teapot"\n'
        )
        run = self.run_tool("boards")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "hive-scale    ATmega328P", "/dev/ttyUSB77 is not plugged in", "hive-scale.hex: 4,000 bytes", "gone.hex: not there",
            "no port with serial number 0042", "no chip is called 'teapot'",
        ):  # fmt: skip
            self.assertIn(said, run.out)
        rows = [json.loads(line) for line in self.run_tool("boards", "--json").out.splitlines()]
        self.assertEqual([row["board"] for row in rows], ["hive-scale", "brood-probe", "rain-gauge"])

    def test_questions_in_a_terminal(self) -> None:
        child = pexpect.spawn(
            COMMAND,
            ["init"],
            cwd=str(self.folder),
            timeout=15,
            dimensions=(24, 100),
            env=self.environment(TERM="xterm"),  # type: ignore[arg-type]
        )
        self.addCleanup(child.close, force=True)
        for question, answer in (
            ("A name for the board", "hive-scale"), ("Which chip", "atmega328p"), ("Which port", "/dev/ttyUSB77"),
            ("How do DTR and RTS", ""), ("Which image", "hive-scale.hex"), ("Text that the program prints", "hive scale 2.4"),
        ):  # fmt: skip
            child.expect(question)
            child.sendline(answer)
        child.expect("board hive-scale written")
        child.expect(pexpect.EOF)
        board = tomllib.loads((self.folder / "greenstep.toml").read_text())["board"]["hive-scale"]
        self.assertEqual(
            board,
            {
                "chip": "atmega328p",
                "port": "/dev/ttyUSB77",
                "hookup": "cap-dtr",
                "images": ["hive-scale.hex"],
                "expect": "hive scale 2.4",
            },
        )

    def test_boards_without_a_project(self) -> None:
        self.assertIn("greenstep init writes one", self.run_tool("boards").err)


class Boards(ToolTest):
    MINE = '# mine\n[board.hive-scale]\nchip = "atmega328p"   # soldered\nbaud = 57600\nexpect = "hive"\n'

    def file(self) -> dict[str, Any]:
        boards: dict[str, Any] = tomllib.loads((self.folder / "greenstep.toml").read_text())["board"]
        return boards

    def test_every_key_is_added_as_it_is_read(self) -> None:
        self.project(self.MINE)
        said = (
            "--chip", "atmega2560", "--port", "bench:frame-lift", "--images", "lift.hex", "--eeprom", "set.bin at 16",
            "--keep", "0x2000:256", "--even-if", "vectors", "--no-verify", "--talk", '{ expect = "name?", send = "x" }',
            "--hookup", '{ reset = { line = "rts" } }', "--compare", "journal", "--also-accept", "1E950F",
        )  # fmt: skip
        self.assertEqual(self.run_tool("boards", "add", "frame-lift", *said).status, 0)
        self.assertEqual(
            self.file()["frame-lift"],
            {
                "chip": "atmega2560", "port": "bench:frame-lift", "hookup": {"reset": {"line": "rts"}},
                "also_accept": [0x1E950F], "images": ["lift.hex"], "eeprom": [{"file": "set.bin", "at": 16}],
                "keep": [{"from": 0x2000, "size": 256}], "even_if": ["vectors"], "compare": "journal", "verify": False,
                "talk": [{"expect": "name?", "send": "x"}],
            },
        )  # fmt: skip
        again = self.run_tool("boards", "add", "frame-lift", "--chip", "avr")
        self.assertEqual((again.status, "--replace" in again.err), (2, True))

    def test_changed_and_removed_and_all_else_stays(self) -> None:
        self.project(self.MINE)
        changed = self.run_tool("boards", "change", "hive-scale", "--port", "/dev/ttyUSB1", "--without", "expect")
        self.assertEqual(changed.status, 0, changed.text)
        self.assertEqual(self.file()["hive-scale"], {"chip": "atmega328p", "baud": 57600, "port": "/dev/ttyUSB1"})
        for comment in ("# mine", "# soldered"):
            self.assertIn(comment, (self.folder / "greenstep.toml").read_text())
        self.assertIn("has no board", self.run_tool("boards", "remove", "frame-lift").err)
        self.assertIn("no terminal", self.run_tool("boards", "remove", "hive-scale").err)
        self.assertEqual(self.run_tool("boards", "remove", "hive-scale", "--yes").status, 0)
        self.assertIn("no board", self.run_tool("boards").err)

    def test_what_is_wrong_leaves_the_file_alone(self) -> None:
        self.project(self.MINE)
        for words, said in (
            (("change", "hive-scale"), "change what?"), (("change", "hive", "--baud", "9600"), "it has hive-scale"),
            (("change", "hive-scale", "--chip", "teapot"), "no chip is called"),
            (("change", "hive-scale", "--without", "frame"), "has no frame"),
            (("add", "a b", "--chip", "avr"), "not a valid board name"), (("remove", "x", "--yes"), "no board 'x'"),
        ):  # fmt: skip
            with self.subTest(words):
                run = self.run_tool("boards", *words)
                self.assertEqual((run.status, said in run.err), (2, True), run.text)
                self.assertEqual((self.folder / "greenstep.toml").read_text(), self.MINE)


class FindPort(ToolTest):
    def test_nothing_moved(self) -> None:
        run = self.run_tool("find-port", "hive-scale", "--within", "0.3")
        self.assertEqual(run.status, 3, run.text)
        self.assertIn("no port came or went in 0.3 s", run.err)

    def test_a_name_that_is_not_known(self) -> None:
        config = {"XDG_CONFIG_HOME": str(self.folder / "config")}
        self.project('[board.hive-scale]\nchip = "atmega328p"\nport = { remembered = "scale" }\n')
        run = self.run_tool("greet", "hive-scale", **config)
        self.assertEqual((run.status, "greenstep find-port scale" in run.err), (2, True), run.err)
        (self.folder / "config/greenstep").mkdir(parents=True)
        (self.folder / "config/greenstep/ports.toml").write_text('[scale]\nserial = "77-none"\n')
        for arguments in (("greet", "hive-scale"), ("greet", "--chip", "avr", "--port", "scale")):
            gone = self.run_tool(*arguments, **config)
            self.assertEqual((gone.status, "there is no port 'scale'" in gone.err), (3, True), gone.err)
        self.assertEqual(
            self.run_tool("find-port", "--list", "--json", **config).event("remembered"),
            {"event": "remembered", "name": "scale", "port": "", "serial": "77-none", "location": ""},
        )
        self.assertRegex(self.run_tool("find-port", "--list", **config).out, r"scale +not plugged in +serial 77-none")
        self.assertEqual(self.run_tool("find-port", "scale", "--forget", **config).status, 0)
        self.assertIn("no port is remembered", self.run_tool("find-port", "--list", **config).out)
        self.assertIn("there are none", self.run_tool("find-port", "scale", "--forget", **config).err)

    def test_a_broken_file_is_named(self) -> None:
        (self.folder / "config/greenstep").mkdir(parents=True)
        (self.folder / "config/greenstep/ports.toml").write_text("[scale\n")
        run = self.run_tool("ports", XDG_CONFIG_HOME=str(self.folder / "config"))
        self.assertEqual((run.status, "cannot be read" in run.err), (2, True))


class Reset(ToolTest):
    def test_into_the_application_and_into_the_bootloader(self) -> None:
        there = ("--chip", "stm32", "--port", "bench:brood-probe")
        lines = ("--hookup", "dtr-reset-rts-boot")
        self.assertIn("a program's text", self.run_tool("reset", *there, *lines).out)
        loader = self.run_tool("reset", *there, *lines, "--into-loader", "--json").event("reset")
        self.assertEqual((loader["kind"], str(loader["sequence"])[:8]), ("nothing", "boot on;"))
        silent = self.run_tool("reset", *there, *lines, "--into-loader").out
        self.assertIn("greenstep greet asks it", silent)
        self.assertIn("1. ", self.run_tool("reset", *there, "--hookup", "by-hand").out)


class Explained(ToolTest):
    def test_a_finding_all_of_them_and_none(self) -> None:
        one = self.run_tool("explain", "boot-pin").out
        for word in ("cause", "seen by", "try"):
            self.assertIn(word, one)
        self.assertIn("boot-pin", self.run_tool("explain").out)
        self.assertGreater(len(self.run_tool("explain", "--json").events), 150)
        wrong = self.run_tool("explain", "boot-pni")
        self.assertEqual((wrong.status, "did you mean boot-pin" in wrong.err), (2, True))

    def test_the_circuits_keys_and_moves(self) -> None:
        rows = self.run_tool("hookup", "list", "--json").events
        self.assertEqual({row["event"] for row in rows}, {"circuit", "table-key", "move"})
        for text in (self.run_tool("hookup", "list").out, self.run_tool("hookup", "--help").out):
            for row in rows:
                self.assertIn(str(row["name"]), text)


class Drawn(ToolTest):
    def pictures(self, name: str, *arguments: str) -> None:
        run = self.run_tool(*arguments, "--save", name)
        self.assertEqual((run.status, f"saved {name}" in run.out), (0, True), run.text)
        content = (self.folder / name).read_bytes()
        self.assertTrue(content.startswith(PNG if name.endswith("png") else SVG))
        self.assertGreater(len(content), 10_000)
        wrong = self.run_tool(*arguments, "--save", "a.gif")
        self.assertEqual((wrong.status, "pictures end in .png" in wrong.err), (2, True), wrong.err)


class Wiring(Drawn):
    def test_crossed_levels_boot_pin_and_buttons(self) -> None:
        run = self.run_tool("wiring", "--chip", "stm32f103c8")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "TX        →   PA10, RX   crossed", "RX        ←   PA9, TX", "3V3", "5 V can destroy it",
            "BOOT0 high for the bootloader, low to run", "1. set BOOT0 high and BOOT1 low", "pull-down", "no program can see volts",
        ):  # fmt: skip
            self.assertIn(said, run.out)

    def test_lines_are_in_the_table_of_a_hookup_that_has_them(self) -> None:
        direct = self.run_tool("wiring", "--chip", "stm32", "--hookup", "rts-reset-dtr-boot").out
        self.assertIn("RTS       →   NRST", direct)
        self.assertIn("DTR       →   BOOT0", direct)
        self.assertIn("through 100 nF", self.run_tool("wiring", "--chip", "atmega328p").out)
        self.assertIn("TXD0 (PE1)", self.run_tool("wiring", "--chip", "atmega1280").out)

    def test_a_borrowed_bridge_goes_straight(self) -> None:
        run = self.run_tool("wiring", "--chip", "atmega328p", "--straight")
        self.assertIn("RX        →   RXD0 (PD0), RX", run.out)
        self.assertIn("keep its own chip in reset", run.out)

    def test_as_json_and_drawn(self) -> None:
        wires = self.run_tool("wiring", "--chip", "stm32", "--json").event("wiring")["wires"]
        self.assertEqual([wire["adapter"] for wire in wires], ["GND", "TX", "RX", "3V3"])
        self.pictures("a.png", "wiring", "--chip", "stm32")


class Lines(Drawn):
    def test_shown_with_volts_and_the_moment_of_boot(self) -> None:
        refused = self.run_tool("hookup", "show", "--chip", "stm32", "--hookup", "cross-pair")
        self.assertEqual(refused.status, 2, refused.text)
        self.assertIn("a cross pair only pulls low, and this chip's BOOT0 must be high", refused.err)
        run = self.run_tool("hookup", "show", "--chip", "esp32", "--hookup", "cross-pair")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "boot on; reset on; wait 20 ms",
            "DTR    ▇",
            "▲ boot pin read: 0.0 V, bootloader",
            "reset is low for 22.9 ms",
        ):
            self.assertIn(said, run.out)
        larger, largest = (
            self.run_tool("hookup", "show", "--chip", "esp32", "--hookup", "cross-pair", "--reset-capacitor", farad)
            for farad in ("10u", "22u")
        )
        self.assertNotIn("!", larger.out)
        self.assertIn("! the boot pin is released 155 ms before reset has risen: too early", largest.out)
        self.assertIn(
            "stands 2 to 3.6 V",
            self.run_tool("hookup", "show", "--chip", "stm32", "--hookup", "dtr-reset-only", "--volts", "5").out,
        )

    def test_as_json(self) -> None:
        event = self.run_tool("hookup", "show", "--chip", "avr", "--json").event("waveform")
        self.assertEqual(sorted(event["lanes"]), ["DTR", "RTS", "reset"])
        self.assertEqual([pulse["boot_selected"] for pulse in event["pulses"]], [None])
        self.assertAlmostEqual(event["pulses"][0]["end_s"] - event["pulses"][0]["start_s"], 0.000288, delta=2e-6)

    def test_drawn(self) -> None:
        self.pictures("a.svg", "hookup", "show", "--chip", "stm32", "--hookup", "dtr-reset-rts-boot")

    def test_by_hand_lists_the_moves(self) -> None:
        run = self.run_tool("hookup", "show", "--chip", "stm32")
        self.assertIn("by-hand: no line moves reset", run.out)
        self.assertIn("1. set BOOT0 high", run.out)

    def test_try_hears_the_program_and_hold_names_the_volts(self) -> None:
        bench = self.bench("brood-probe")
        there = ("--chip", "stm32", "--port", bench.port("brood-probe"), "--hookup", "dtr-reset-rts-boot")
        left = self.run_tool("hookup", "try", "--of", "leave", *there)
        self.assertEqual(left.status, 0, left.text)
        self.assertIn("brood probe 1.6", left.out)
        self.assertIn("a bootloader that waits is silent", self.run_tool("hookup", "try", *there).out)
        held = self.run_tool("hookup", "hold", "boot on; reset on", "--seconds", "0.1", *there)
        self.assertEqual(held.status, 0, held.text)
        self.assertRegex(held.out, r"DTR +asserted: 0 V[\s\S]*reset +0\.0 V[\s\S]*boot +3\.3 V")

    def test_hold_until_a_key(self) -> None:
        bench = self.bench("brood-probe")
        child = pexpect.spawn(
            COMMAND,
            ["hookup", "hold", "boot on", "--chip", "stm32", "--port", bench.port("brood-probe"), "--hookup", "dtr-reset-rts-boot"],
            cwd=str(self.folder), timeout=20, env=self.environment(TERM="xterm"),  # type: ignore[arg-type]
        )  # fmt: skip
        self.addCleanup(child.close, force=True)
        child.expect("any key releases the lines")
        for _ in range(8):  # a key pressed before the terminal waits for one is lost, to a person too
            child.send("x")
            if child.expect([pexpect.EOF, pexpect.TIMEOUT], timeout=2) == 0:
                break
        child.wait()
        self.assertEqual(child.exitstatus, 0)

    def test_hold_wants_a_key_or_a_time_and_a_sequence(self) -> None:
        there = ("--chip", "stm32", "--port", "/dev/ttyUSB77")
        self.assertIn("--seconds", self.run_tool("hookup", "hold", "dtr on", *there).err)
        self.assertIn("column 1", self.run_tool("hookup", "hold", "dty on", "--seconds", "1", *there).err)
        self.assertEqual(self.run_tool("hookup", "hold", "dtr on", "--seconds", "1", *there).status, 3)

    def test_find_names_the_hookup_as_it_is_written(self) -> None:
        bench = self.bench("stm32f103")
        run = self.run_tool("hookup", "find", "--chip", "stm32", "--port", bench.port("stm32f103"))
        self.assertEqual(run.status, 0, run.text)
        self.assertIn('hookup = "rts-reset-dtr-boot"', run.out)

    def test_find_on_a_bench_with_another_circuit(self) -> None:
        bench = self.bench("entrance-counter", "--circuit", "cross-pair")
        run = self.run_tool("hookup", "find", "--chip", "lpc1769", "--port", bench.port("entrance-counter"), "--json")
        self.assertEqual(
            run.event("found"),
            {"event": "found", "hookup": "cross-pair", "table": '"cross-pair"', "baud": 115200, "leaves": "heard"},
        )
        self.assertTrue(run.event("tried", hookup="dtr-reset-rts-boot")["heard"])

    def test_find_on_three_wires_says_what_to_try(self) -> None:
        bench = self.bench("brood-probe", "--hands", "600")
        run = self.run_tool("hookup", "find", "--chip", "stm32", "--port", bench.port("brood-probe"))
        self.assertEqual((run.status, "no common hookup" in run.err), (4, True), run.text)


class Clock(Drawn):
    def test_the_table(self) -> None:
        run = self.run_tool("rates", "16M", "--chip", "atmega328p")
        self.assertEqual(run.status, 0, run.text)
        self.assertRegex(run.out, r" 115200 +117647 +\+2\.1 % +3\.9 % +double speed, UBRR 16 +at the edge")
        self.assertRegex(run.out, r" 460800 .* no\n")
        self.assertIn(
            "115200 comes out near 28800, 57600, 230400, 460800", self.run_tool("rates", "72M", "--chip", "stm32").out
        )

    def test_pll_prescaler_and_the_time_of_an_image(self) -> None:
        run = self.run_tool("rates", "8M", "brood-probe.hex", "--pll", "9", "--chip", "stm32f072")
        self.assertIn("8 MHz x 9 = 72 MHz   8E1", run.out)
        times = [
            json.loads(line)
            for line in self.run_tool(
                "rates", "8M", "brood-probe.hex", "--chip", "stm32f072", "--json"
            ).out.splitlines()
        ]
        seconds = {row["baud"]: row["seconds"] for row in times if row["event"] == "rate"}
        plan = self.run_tool("plan", "brood-probe.hex", "--chip", "stm32f072", "--json").event("plan")
        self.assertAlmostEqual(seconds[115200], plan["seconds"], places=2)
        self.assertGreater(seconds[9600], 5 * seconds[115200])
        self.assertIn("8 MHz / 2 = 4 MHz", self.run_tool("rates", "8M", "--uart", "avr", "--prescaler", "2").out)

    def test_bad_values_and_a_drawing(self) -> None:
        for arguments in (("16x", "--uart", "avr"), ("16", "--uart", "avr"), ("16M", "--uart", "teapot"), ("16M",)):
            with self.subTest(arguments):
                self.assertEqual(self.run_tool("rates", *arguments).status, 2)
        self.pictures("a.png", "rates", "16M", "--uart", "avr")


class GreetingAPort(ToolTest):
    def test_a_port_alone_finds_chip_hookup_and_rate(self) -> None:
        bench = self.bench("atmega168")
        run = self.run_tool("greet", "--port", bench.port("atmega168"), "--patience", "12", "--trace", "hive.vcd")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("read signature", self.run_tool("trace", "show", "hive.vcd").out)
        self.assertEqual(self.run_tool("trace", "show", "hive-survey.vcd").status, 0)
        self.assertIn("so it is --chip avr --hookup cap-dtr --baud 57600", run.out)
        self.assertIn("ATmega168 answers", run.out)

    def test_a_person_helps_where_no_line_does(self) -> None:
        port = "bench:brood-probe?lines=none&hands=12"
        run = self.run_tool("greet", "--port", port, "--patience", "15")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("no DTR and RTS", run.out)
        self.assertIn("STM32F07x answers", run.out)

    def test_what_says_who_it_is_or_talks_at_another_rate(self) -> None:
        for fault, said in (
            ("says=rst cause:2, boot mode:(3,6)", "ESP8266"),
            ("console=57600", "another rate, about 57600"),
        ):
            with self.subTest(said):
                bench = self.bench("hive-scale", "--fault", fault, "--fault", "no-boot")
                run = self.run_tool(
                    "hookup", "find", "--chip", "avr", "--baud", "115200", "--port", bench.port("hive-scale")
                )
                self.assertEqual((run.status, said in run.err), (4, True), run.text)


if __name__ == "__main__":
    unittest.main()
