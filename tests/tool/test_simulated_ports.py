"""`--port bench:BOARD`: a simulated board inside the command, wherever a port is taken."""

from __future__ import annotations

import unittest

from greenstep.bench.address import parse_address
from greenstep.core.errors import UsageFault

from .support import ToolTest

CHIP = ("--chip", "stm32f072rb")


class Memory(ToolTest):
    def test_what_a_chip_holds_stays_from_one_command_to_the_next(self) -> None:
        port = "bench:hive-scale?memory=scale.chip"
        up = self.run_tool("upload", "hive-scale.hex", "--port", port)
        self.assertEqual(up.status, 0, up.text)
        self.assertIn("simulated: ATmega328P", up.out)
        same = self.run_tool("verify", "hive-scale.hex", "--port", port)
        self.assertEqual(same.status, 0, same.text)
        saved = self.run_tool("backup", "--port", port, "--from", "0", "--size", "4000", "--save", "held.bin")
        self.assertEqual(saved.status, 0, saved.text)
        self.assertEqual((self.folder / "held.bin").read_bytes(), self.scale.pieces[0].data)
        fresh = self.run_tool("verify", "hive-scale.hex", "--port", "bench:hive-scale")
        self.assertEqual(fresh.status, 7, fresh.text)

    def test_a_file_of_another_board_or_none(self) -> None:
        self.run_tool("upload", "hive-scale.hex", "--port", "bench:hive-scale?memory=one.chip")
        (self.folder / "two.chip").write_bytes(b"honey")
        for name, said in (("one", "hive-scale"), ("two", "two.chip")):
            run = self.run_tool("upload", "brood-probe.hex", "--port", f"bench:brood-probe?memory={name}.chip")
            self.assertEqual((run.status, said in run.text), (2, True), run.text)
        self.assertEqual((self.folder / "two.chip").read_bytes(), b"honey")

    def test_two_of_a_kind_are_two_chips(self) -> None:
        greeted = [
            self.run_tool("greet", "--chip", "esp32", "--port", f"bench:apiary-gateway?seed={seed}", "--json")
            for seed in (0, 1, 0)
        ]
        self.assertEqual([run.status for run in greeted], [0, 0, 0], greeted[1].text)
        said = [run.event("step-ended", step="chip")["figures"]["mac"] for run in greeted]
        self.assertEqual(said[0], said[2])
        self.assertNotEqual(said[0], said[1])


class Settings(ToolTest):
    def test_faults_and_circuits(self) -> None:
        for port, status, said in (
            ("bench:hive-scale?fault=echo", 4, "echo"),
            ("bench:brood-probe?fault=no-boot", 4, "BOOT0"),
            ("bench:brood-probe?circuit=rts-reset-dtr-boot&lines=none", 4, "this port has no DTR and RTS"),
            ("bench:brood-probe?gone-after=0.4", 3, "the simulated cable was pulled"),
            ("bench:hive-scale?fault=rate-refused=115200", 3, "does not take 115200 8N1"),
            ("bench:hive-scale?turnaround=16&fault=late-once=9:300", 0, "green in"),
            ("bench:brood-probe?fault=drop-to-host=300&fault=flip-to-host=420:10", 0, "green in"),
        ):
            with self.subTest(port):
                image = "hive-scale.hex" if "hive" in port else "brood-probe.hex"
                run = self.run_tool("upload", image, "--port", port)
                self.assertEqual(run.status, status, run.text)
                self.assertIn(said, run.text)

    def test_a_person_presses_the_buttons(self) -> None:
        run = self.run_tool("upload", "brood-probe.hex", "--port", "bench:brood-probe?hands=2")
        self.assertEqual(run.status, 0, run.text)
        self.assertIn("by hand", run.out)

    def test_what_is_written_wrong_is_told_with_what_was_meant(self) -> None:
        for port, said in (
            ("bench:hive-scal", "did you mean bench:hive-scale?"),
            ("bench:", "--list"),
            ("bench:hive-scale?falt=echo", "did you mean fault?"),
            ("bench:hive-scale?fault=bees", "bees"),
            ("bench:hive-scale?turnaround=soon", "from 0 to 1000"),
            ("bench:hive-scale?seed=-1", "a whole number"),
            ("bench:hive-scale?pace=slow", "pace=real"),
            ("bench:hive-scale?lines=two", "lines=none"),
            ("bench:hive-scale?circuit=knot", "cap-dtr"),
            ("bench:hive-scale?seed=1&seed=2", "twice"),
            ("bench:hive-scale?gone-after=1e9", "3600"),
        ):
            with self.subTest(port):
                with self.assertRaises(UsageFault) as caught:
                    parse_address(port)
                finding = caught.exception.finding
                self.assertIn(said, " ".join((finding.cause, *finding.attempts)))
        run = self.run_tool("greet", "--port", "bench:hive-scal")
        self.assertEqual((run.status, "did you mean bench:hive-scale?" in run.text), (2, True), run.text)

    def test_where_a_port_of_the_system_is_needed(self) -> None:
        run = self.run_tool("share-port", "--port", "bench:hive-scale")
        self.assertEqual(run.status, 2, run.text)

    def test_the_list_names_every_setting(self) -> None:
        listed = self.run_tool("bench", "--list")
        for word in ("turnaround=MS", "memory=FILE", "late-once=N:MS", "pace=real", "brood-probe"):
            self.assertIn(word, listed.out)


class Everywhere(ToolTest):
    def test_project_file_environment_and_several_at_once(self) -> None:
        self.project(
            "[board.probe]\nchip = 'stm32f072rb'\nhookup = 'dtr-reset-rts-boot'\nimages = ['brood-probe.hex']\n"
            "port = 'bench:brood-probe'\n"
        )
        self.assertEqual(self.run_tool("upload", "probe").status, 0)
        self.assertEqual(self.run_tool("greet", *CHIP, GREENSTEP_PORT="bench:stm32f072").status, 0)
        ports = [word for seed in range(3) for word in ("--port", f"bench:brood-probe?seed={seed}")]
        batch = self.run_tool("batch", "probe", *ports, "--count", "3", "--json")
        self.assertEqual(batch.status, 0, batch.text)
        self.assertEqual(sum(event["event"] == "board-ended" and event["green"] for event in batch.events), 3)

    def test_a_console(self) -> None:
        run = self.run_tool("listen", "--port", "bench:hive-scale", "--expect", "hive scale", "--within", "5")
        self.assertEqual(run.status, 0, run.text)

    def test_a_chip_by_name_wins_over_the_board(self) -> None:
        run = self.run_tool("greet", "--chip", "esp32", "--port", "bench:brood-probe")
        self.assertEqual(run.status, 4, run.text)


if __name__ == "__main__":
    unittest.main()
