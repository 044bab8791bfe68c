"""A person with trouble: wrong words, wrong files, wrong ports, pulled cables, Ctrl-C."""

from __future__ import annotations

import fcntl
import json
import os
import signal
import unittest
from pathlib import Path

from greenstep.bench.samples import esp_image
from greenstep.ports.discovery import PortInfo
from greenstep.ports.holders import holders, owning_group
from greenstep.store.board import BoardSettings, PortChoice

from .support import SLOWLY, ToolTest

CHIP = ("--chip", "stm32f072")


class WrongWords(ToolTest):
    def test_usage_faults(self) -> None:
        cases: dict[tuple[str, ...], str] = {
            ("uplod",): "Did you mean 'upload'?",
            ("upload", "brood-probe.hex"): "which chip?",
            ("upload", "brood-probe.hex", "--chip", "atmega329p"): "did you mean atmega328p",
            ("upload", *CHIP, "--port", "x"): "no image to upload",
            ("upload", "nothing.hex", *CHIP): "there is no file nothing.hex",
            ("upload", "frame-lift", *CHIP): "'frame-lift' is neither a board nor a file",
            ("upload", "brood-probe.hex", "at", "0x100", *CHIP, "--port", "x"): "carries its own addresses",
            ("upload", "brood-probe.hex", "at", "12q", *CHIP): "not a number",
            ("upload", "brood-probe.hex", "at", *CHIP): "no address after",
            ("greet", *CHIP, "--port", "x", "--hookup", "cross-pear"): "use cross-pair",
            ("greet", *CHIP, "--port", "x", "--hookup", "{ reset = 3 }"): "hookup.reset is 3",
            ("greet", *CHIP, "--port", "x", "--enter", "boot on; rest on"): "enter, column 10: 'rest'",
            ("greet", *CHIP, "--port", "x", "--frame", "8X1"): "is not a frame",
            ("greet", *CHIP, "--port", "x", "--dialect", "avr-v7"): "no dialect is called 'avr-v7'",
            ("greet", *CHIP, "--port", "odd://x"): "does not name a port",
            ("greet", "--baud", "fast"): "neither a rate in baud nor 'fastest'",
            ("upload", "brood-probe.hex", *CHIP, "--keep", "0x100", "--port", "x"): "has no size",
            ("bench", "bee-hive"): "There is no board 'bee-hive'",
            ("bench", "--fault", "honey"): "no fault is called 'honey'",
            ("bench", "--fault", "drop-to-chip=many"): "cannot be read",
        }
        for words, said in cases.items():
            with self.subTest(" ".join(words)):
                run = self.run_tool(*words)
                self.assertEqual(run.status, 2, run.text)
                self.assertIn(said, run.text)

    def test_faults_before_the_ladder_as_json(self) -> None:
        run = self.run_tool("upload", "brood-probe.hex", "--json")
        self.assertEqual(run.status, 2)
        self.assertEqual(run.event("fault")["findings"][0]["key"], "no-chip")

    def test_project_file(self) -> None:
        cases = {
            "[board.x\n": "greenstep.toml: Expected",
            "[bord.x]\n": "greenstep.toml has no 'bord'",
            "[board.x]\nchp = 'stm32'\n": "did you mean 'chip'?",
            "[board.x]\nbaud = 'fast'\n": "board.x.baud is 'fast'",
            "[board.x]\nbaud = true\n": "board.x.baud is True",
            "[board.x]\nport = { color = 'red' }\n": "board.x.port is",
            "[board.x]\nimages = 'a.hex'\n": "a list",
            "[board.x]\nimages = [ 3 ]\n": "board.x.images",
            "[board.x]\nkeep = [ { from = 1 } ]\n": "board.x.keep",
            "[board.x]\nerase = 'some'\n": "board.x.erase is 'some'",
            "[board.x]\neven_if = ['all']\n": "board.x.even_if",
            "[board.x]\nalso_accept = ['1E950F']\n": "board.x.also_accept",
            "[board.x]\nverify = 'no'\n": "true or false",
            "[board.x]\npatience = 'long'\n": "a number of seconds",
            "board = 3\n": "not a table of boards",
        }
        for text, said in cases.items():
            with self.subTest(text):
                self.project(text)
                run = self.run_tool("greet", "x")
                self.assertEqual(run.status, 2, run.text)
                self.assertIn(said, run.text)

    def test_which_board(self) -> None:
        self.project("[board.hive-scale]\nchip = 'atmega328p'\n[board.brood-probe]\nchip = 'stm32f072'\n")
        self.assertIn("name one: hive-scale, brood-probe", self.run_tool("greet").text)
        self.assertIn("did you mean hive-scale", self.run_tool("greet", "hive-scal").text)
        missing = self.run_tool("greet", "hive-scale", "--project", "other.toml")
        self.assertEqual((missing.status, "no project file" in missing.text), (2, True))

    def test_options_beat_environment_beats_project_file(self) -> None:
        self.project("[board.x]\nchip = 'stm32f103c8'\nport = '/dev/from-file'\n")
        asked = ("greet", "x", "--json")
        self.assertEqual(self.run_tool(*asked).event("run-started")["port"], "/dev/from-file")
        variable = {"GREENSTEP_PORT": "/dev/from-environment"}
        self.assertEqual(self.run_tool(*asked, **variable).event("run-started")["port"], "/dev/from-environment")
        run = self.run_tool(*asked, "--port", "/dev/from-option", **variable)
        self.assertEqual(run.event("run-started")["port"], "/dev/from-option")
        started = self.run_tool("greet", "x", "--baud", "9600", "--json", GREENSTEP_FRAME="8N1").event("run-started")
        self.assertEqual(started["line"], "9600 8N1")


class WrongFiles(ToolTest):
    def test_half_broken_files(self) -> None:
        text = (self.folder / "brood-probe.hex").read_text().splitlines()
        flipped = text[40][:-1] + ("0" if text[40][-1] != "0" else "1")
        cases = {
            "cut.hex": ("\n".join(text)[:4000], "cut.hex, line"),
            "sum.hex": ("\n".join([*text[:40], flipped, *text[41:]]), "sum.hex, line 41: checksum"),
            "empty.hex": ("", "the file is empty"),
            "letter.hex": (":hello\n", "this is a text"),
            "page.hex": (
                "<!DOCTYPE html>\n<style>\n:active { color: red }\n</style>",
                "page.hex: this is a web page",
            ),
            "wo.bin": ("404: nicht gefunden, schön\n", "did a download go wrong? it begins '404: nicht gefunden"),
            "end.hex": (
                "\n".join(text[:-1]),
                f"end.hex: no end record: the file is cut off after line {len(text) - 1}",
            ),
            "count.s19": ("S1050000616237\nS5030002FA\nS9030000FC\n", "count.s19, line 2: 1 data records before"),
            "byte.txt": ("@F000\n31 4\nq\n", "byte.txt, line 2: '4' as byte 2"),
            "digit.hex": (":10000000zz\n", "a hex digit"),
            "records.hex": ("S00600004844521B\nS9030000FC\n", "records, but no data"),
        }
        for name, (content, said) in cases.items():
            with self.subTest(name):
                (self.folder / name).write_text(content)
                run = self.run_tool("upload", name, *CHIP, "--port", "/dev/none")
                self.assertEqual(run.status, 5, run.text)
                self.assertIn(said, run.text)

    def test_an_elf_and_a_folder(self) -> None:
        (self.folder / "probe.elf").write_bytes(b"\x7fELF\x01\x01\x01" + bytes(60))
        self.assertIn("an ELF file of type ET_NONE", self.run_tool("upload", "probe.elf", *CHIP, "--port", "x").text)
        run = self.run_tool("upload", ".", *CHIP, "--port", "x")
        self.assertEqual((run.status, "is a folder" in run.text), (2, True))

    def test_images_for_something_else(self) -> None:
        run = self.run_tool("upload", "hive-scale.hex", *CHIP, "--port", "/dev/none")
        self.assertEqual(run.status, 5)
        self.assertIn("begins at 0000", run.text)
        self.assertIn("nothing on the chip was changed", run.text)
        self.assertEqual(self.run_tool("upload", "brood-probe.hex", "--chip", "atmega328p", "--port", "x").status, 5)

    def test_bytes_that_begin_as_a_program_for_another_family(self) -> None:
        stm32, avr, esp = (image.pieces[0].data for image in (self.probe, self.scale, esp_image("hive", 2000)))
        for name, data, at, chip, said in (
            ("probe.bin", stm32, "0", "atmega328p", "Cortex-M vectors"),
            ("gateway.bin", esp, "0", "atmega328p", "an ESP boot header"),
            ("scale.bin", avr, "0x08000000", "stm32f072", "AVR jumps"),
        ):
            with self.subTest(name):
                (self.folder / name).write_bytes(data)
                bench = {"atmega328p": "hive-scale", "stm32f072": "brood-probe"}[chip]
                run = self.run_tool("upload", name, "at", at, "--chip", chip, "--port", f"bench:{bench}")
                self.assertEqual(run.status, 5, run.text)
                self.assertIn(said, run.text)
                self.assertIn("nothing on the chip was changed", run.text)

    def test_a_file_with_its_address_in_one_word(self) -> None:
        (self.folder / "scale.bin").write_bytes(self.scale.pieces[0].data)
        bench = self.bench("hive-scale")
        run = self.run_tool("upload", "scale.bin at 0", "--port", bench.port("hive-scale"))
        self.assertEqual(run.status, 0, run.text)
        self.assertEqual(bench.close()["hive-scale.flash"][:4000], self.scale.pieces[0].data)


class WrongPorts(ToolTest):
    def test_ports_that_cannot_be_opened(self) -> None:
        cases = {
            "/dev/ttyBEE9": "there is no /dev/ttyBEE9|there is no port /dev/ttyBEE9",
            "/dev/null": "/dev/null is not a serial port",
            str(self.folder): "is not a serial port",
            "rfc2217://127.0.0.1:9": "nothing serves",
        }
        for port, said in cases.items():
            with self.subTest(port):
                run = self.run_tool("greet", *CHIP, "--port", port)
                self.assertEqual(run.status, 3, run.text)
                self.assertTrue(any(part in run.text for part in said.split("|")), run.text)

    def test_a_held_port(self) -> None:
        bench = self.served("brood-probe", "--pty")
        port = bench.port("brood-probe")
        descriptor = os.open(port, os.O_RDWR | os.O_NOCTTY)
        self.addCleanup(os.close, descriptor)
        fcntl.flock(descriptor, fcntl.LOCK_EX)
        run = self.run_tool("greet", *CHIP, "--port", port)
        self.assertEqual(run.status, 3, run.text)
        self.assertIn(f"{port} is held by", run.text)
        self.assertIn(f"({os.getpid()})", run.text)

    def test_a_serial_number_that_is_not_plugged(self) -> None:
        self.project("[board.x]\nchip = 'stm32'\nport = { serial = '0042' }\n")
        run = self.run_tool("greet", "x")
        self.assertEqual(run.status, 3)
        self.assertIn("serial number 0042", run.text)

    def test_a_name_from_an_option_and_a_serial_number_from_the_file(self) -> None:
        known = BoardSettings(port=PortChoice(serial="0042"), baud=9600)
        merged = BoardSettings(port=PortChoice(name="/dev/ttyUSB0")).over(known)
        self.assertEqual((merged.port, merged.baud), (PortChoice("/dev/ttyUSB0", "0042"), 9600))
        self.project("[board.x]\nchip = 'stm32'\nport = { name = '/dev/ttyBEE1', serial = '0042' }\n")
        run = self.run_tool("greet", "x", "--json")
        self.assertEqual((run.status, run.event("run-started")["port"]), (3, "/dev/ttyBEE1"))

    def test_holders_are_found_in_proc(self) -> None:
        proc = self.folder / "proc"
        for process, name, target in (("77", "minder", "ttyUSB0"), ("88", "other", "ttyUSB1")):
            (proc / process / "fd").mkdir(parents=True)
            (proc / process / "comm").write_text(f"{name}\n")
            device = self.folder / target
            device.touch()
            (proc / process / "fd" / "3").symlink_to(device)
        (proc / "99").mkdir()
        (proc / "version").write_text("made up")
        self.assertEqual(holders(str(self.folder / "ttyUSB0"), proc), ("minder (77)",))
        self.assertEqual(holders(str(self.folder / "ttyUSB2"), proc), ())
        self.assertEqual(holders("x", self.folder / "no-proc"), ())
        self.assertTrue(owning_group(str(self.folder)))
        self.assertEqual(owning_group("/no/such/device"), "")

    def test_ports_lists(self) -> None:
        run = self.run_tool("ports", "--json")
        self.assertEqual(run.status, 0)
        for line in run.out.splitlines():
            self.assertEqual(set(json.loads(line)) - {"event"}, set(PortInfo.__dataclass_fields__))
        self.assertEqual(self.run_tool("ports").status, 0)


class InTheMiddle(ToolTest):
    arguments = ("upload", "brood-probe.hex", *CHIP, "--hookup", "dtr-reset-rts-boot", "--json")

    def interrupted_at(self, step: str, number: signal.Signals) -> tuple[int, list[dict[str, object]], bytes]:
        """Status and events of an upload that gets a signal at its first advance in a step, and the flash."""
        bench = self.bench("brood-probe")
        process = self.start_tool(*self.arguments, "--port", bench.port("brood-probe") + SLOWLY)
        assert process.stdout is not None
        lines = []
        for line in process.stdout:
            lines.append(json.loads(line))
            if lines[-1].get("step") == step and lines[-1]["event"] == "step-advanced":
                process.send_signal(number)
                break
        rest, errors = process.communicate(timeout=60)
        self.assertNotIn("Traceback", errors)
        lines += [json.loads(line) for line in rest.splitlines()]
        return process.returncode, lines, bench.close()["brood-probe.flash"]

    def test_ctrl_c_while_writing(self) -> None:
        status, events, flash = self.interrupted_at("write", signal.SIGINT)
        self.assertEqual(status, 130)
        self.assertEqual(events[-1]["event"], "run-ended")
        self.assertIn("no whole application", str(events[-1]["chip_state"]))
        self.assertNotEqual(flash[:5000], self.probe.pieces[0].data)

    def test_termination_while_verifying(self) -> None:
        status, events, flash = self.interrupted_at("verify", signal.SIGTERM)
        self.assertEqual(status, 130)
        self.assertIn("not verified", str(events[-1]["chip_state"]))
        self.assertEqual(flash[:5000], self.probe.pieces[0].data)

    def test_an_upload_that_nobody_looks_at_any_more_goes_on(self) -> None:
        bench = self.bench("brood-probe")
        process = self.start_tool(*self.arguments, "--port", bench.port("brood-probe"))
        assert process.stdout is not None and process.stderr is not None
        process.stdout.readline()
        process.stdout.close()
        errors = process.stderr.read()
        process.stderr.close()
        self.assertEqual((process.wait(timeout=60), errors), (0, ""))
        self.assertEqual(bench.close()["brood-probe.flash"][:5000], self.probe.pieces[0].data)

    def pulled(self, *bench_arguments: str) -> None:
        bench = self.served("brood-probe", *bench_arguments)
        hookup = ("--hookup", "by-hand") if bench_arguments else ()
        process = self.start_tool(*self.arguments, *hookup, "--port", bench.port("brood-probe"))
        assert process.stdout is not None
        for line in process.stdout:
            event = json.loads(line)
            if event.get("step") == "write" and event["event"] == "step-advanced":
                bench.kill()
                break
        rest, errors = process.communicate(timeout=60)
        last = json.loads(rest.splitlines()[-1])
        self.assertEqual((process.returncode, last["exit_code"]), (3, 3), rest + errors)
        self.assertIn("no whole application", last["chip_state"])
        self.assertIn("went away in the middle", rest)

    def test_a_pulled_network_cable(self) -> None:
        self.pulled()

    def test_a_pulled_usb_cable(self) -> None:
        self.pulled("--pty", "--hands", "0.3")

    def test_the_next_upload_after_a_broken_one_is_green(self) -> None:
        bench = self.bench("brood-probe")
        port = bench.port("brood-probe")
        broken = self.run_tool(*self.arguments, "--port", f"{port}&gone-after=0.6")
        self.assertIn("no whole application", str(broken.event("run-ended")["chip_state"]))
        run = self.run_tool(*self.arguments, "--port", port)
        self.assertEqual(run.status, 0, run.text)
        self.assertEqual(bench.close()["brood-probe.flash"][:5000], self.probe.pieces[0].data)


class Sources(unittest.TestCase):
    def test_the_readme_names_both_commands_and_ci_runs_the_test_command(self) -> None:
        root = Path(__file__).parents[2]
        readme = (root / "README.md").read_text()
        self.assertIn("make demo", readme)
        self.assertIn("make test", readme)
        self.assertIn("make test", (root / ".ci" / "run").read_text())


if __name__ == "__main__":
    unittest.main()
