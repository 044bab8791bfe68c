"""What a kit may reach: nothing but its own members, whatever key names it; and what its recipient is shown and asked."""

from __future__ import annotations

import hashlib
import json
import shutil
import unittest
import zipfile
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import pexpect
import tomlkit

from greenstep.core.errors import RefusedFault
from greenstep.store.board import ImageFile, PortChoice, TalkEntry
from greenstep.store.board_keys import KEYS, board_from_table
from greenstep.store.kit import read_kit
from greenstep.store.reach import Reach

from .support import COMMAND, ToolTest

APIARY = Path(__file__).parents[2] / "examples" / "apiary"
OUTSIDE = "/etc/hostname"
HOSTILE: dict[str, Any] = {
    "a file": OUTSIDE,
    "a file in a table": {"file": OUTSIDE},
    "a file beside": {"file": "../secret.bin"},
    "files": [OUTSIDE],
    "a file with an address": [{"file": OUTSIDE, "at": 0}],
    "a file for a memory": [{"file": "images/../../x", "memory": "eeprom"}],
    "a folder": [{"folder": "/etc", "as": "fat", "at": 0x1000, "size": 0x10000}],
    "a program": {"reset": {"run_on": ["true"], "run_off": ["true"]}},
    "a program in the supply": {"power": {"run_on": ["true"], "run_off": ["true"]}},
    "a pin": {"reset": {"gpio": "gpiochip0:17"}},
    "a setting's file": {"routines": {"file": OUTSIDE}},
    "a port": "/dev/ttyUSB0",
    "a port by its adapter": {"serial": "BEE0042"},
    "a URL": "spy:///dev/ttyUSB0?file=/tmp/x",
    "a secret": [{"expect": "key?", "secret": "HIVE_KEY"}],
    "a secret in a setting": {"opening": [{"expect": "key?", "secret": "HIVE_KEY"}]},
}


def kit_of(path: Path, table: Mapping[str, Any], **texts: str) -> Path:
    """A kit with one member and one board."""
    data = b"bees" * 100
    manifest = {
        "format": 1,
        **texts,
        "file": {"images/scale.bin": {"bytes": len(data), "sha256": hashlib.sha256(data).hexdigest()}},
        "board": {"hive-scale": {"images": ["images/scale.bin"], **table}},
    }
    with zipfile.ZipFile(path, "w") as file:
        file.writestr("kit.toml", tomlkit.dumps(manifest))
        file.writestr("images/scale.bin", data)
    return path


def reaches(value: Any) -> Iterator[object]:
    """All files, ports, programs and pins in a board's settings, wherever they are."""
    if isinstance(value, Path | PortChoice):
        yield value
    elif isinstance(value, ImageFile):
        yield value.file
    elif isinstance(value, Mapping):
        yield from value.keys() & {"run_on", "run_off", "gpio"}
        for one in value.values():
            yield from reaches(one)
    elif isinstance(value, list | tuple):
        for one in value:
            yield from reaches(one)


def secrets_in(value: Any) -> Iterator[str]:
    if isinstance(value, TalkEntry) and value.secret:
        yield value.secret
    for one in value.values() if isinstance(value, Mapping) else value if isinstance(value, list | tuple) else ():
        yield from secrets_in(one)


class OfEveryKey(ToolTest):
    def test_no_key_reaches_anything_of_the_recipient(self) -> None:
        """A key that is added later is tried here too."""
        taken = dict.fromkeys(Reach, 0)
        for key in KEYS:
            for said, value in HOSTILE.items():
                with self.subTest(key=key.name, value=said):
                    path = kit_of(self.folder / "a.kit", {key.name: value})
                    try:
                        kit = read_kit(path)
                    except RefusedFault:
                        continue
                    folder = self.folder / "unpacked"
                    shutil.rmtree(folder, ignore_errors=True)
                    folder.mkdir()
                    (settings,) = kit.unpack(folder).values()
                    allowed = {folder / "images" / "scale.bin"}
                    self.assertLessEqual({*reaches(list(vars(settings).values()))}, allowed)
                    named = {*secrets_in(list(vars(settings).values()))}
                    self.assertEqual(named, {*kit.secrets["hive-scale"]})
                    taken[Reach.SECRET] += len(named)
        self.assertEqual(taken[Reach.SECRET], 2)  # by talk and by set, and both were named

    def test_every_row_says_what_it_reaches(self) -> None:
        """And what else looks like a program or a pin, in a table of settings, is refused all the same."""
        found: dict[str, set[Reach]] = {key.name: set() for key in KEYS}
        for key in KEYS:
            for value in (*HOSTILE.values(), "images/scale.bin"):
                try:
                    read = key.of(value, "", Path())
                except Exception:  # noqa: BLE001  (no value for this key)
                    continue
                found[key.name] |= {one.kind for one in key.reached(read)}
        for key in KEYS:
            with self.subTest(key.name):
                self.assertEqual(
                    found[key.name] - {Reach.PROGRAM, Reach.PIN}, {*key.reach} - {Reach.PROGRAM, Reach.PIN}
                )
                self.assertLessEqual({*key.reach}, found[key.name])

    def test_all_that_a_kit_says_is_shown(self) -> None:
        table = {
            "chip": "esp32", "baud": 230400, "frame": "8E1", "hookup": "cap-dtr", "enter": "dtr on; wait 7 ms",
            "leave": "rts on", "by_hand": {"load": ["short JP1"], "run": ["open JP1"]}, "wait": False, "patience": 17.0, "dialect": "esp-rom", "set": {"verify": "whole"},
            "also_accept": [0x1E950F], "images": ["images/scale.bin"],
            "eeprom": [{"file": "images/scale.bin", "at": 0x40}],
            "keep": [{"from": 0x9000, "size": 0x6000, "why": "hive names"}], "bootloader_bytes": 512, "erase": "all",
            "even_if": ["lock-out"], "compare": "off", "verify": False, "start": False, "expect": "bees",
            "expect_within": 9.0, "console_baud": 74880, "elf": "images/scale.bin",
            "talk": [{"expect": "name?", "send": "hive-7"}, {"secret": "HIVE_KEY"}], "line_end": "lf",
        }  # fmt: skip
        self.assertEqual({*table, "port"}, {key.name for key in KEYS})
        kit_of(self.folder / "all.kit", table, opening="First this.", closing="Then that.", question="Which?")
        run = self.run_tool("kit", "show", "all.kit")
        self.assertEqual(run.status, 0, run.text)
        for said in (
            "esp32", "230400", "8E1", "cap-dtr", "dtr on; wait 7 ms", "rts on", "load: short JP1; run: open JP1", "17.0", "esp-rom", "verify: whole",
            "0x1E950F", "scale.bin at 0x40", "9000-EFFF (hive names)", "512", "all", "--even-if lock-out", "off",
            "bees", "9.0", "74880", 'after "name?", at most 5 s, send "hive-7"', "the secret HIVE_KEY", "lf",
            "First this.", "Then that.", "Which?",
        ):  # fmt: skip
            with self.subTest(said):
                self.assertIn(said, " ".join(run.out.split()))
        for key in table:
            self.assertIn(f"   {key.replace('_', ' ')} ", run.out)
        self.assertEqual(json.loads(self.run_tool("kit", "show", "all.kit", "--json").out)["secrets"],
                         {"hive-scale": ["HIVE_KEY"]})  # fmt: skip

    def test_what_cannot_be_undone_is_not_the_kits_to_decide(self) -> None:
        kit = read_kit(kit_of(self.folder / "a.kit", {"even_if": ["vectors", "lock-out", "protection"]}))
        (settings,) = kit.unpack(self.folder).values()
        self.assertEqual(settings.even_if, ("vectors",))


class Secrets(ToolTest):
    def setUp(self) -> None:
        super().setUp()
        self.project(
            '[board.brood-probe]\nchip = "stm32f072rb"\nhookup = "dtr-reset-rts-boot"\nimages = ["brood-probe.hex"]\n'
            'talk = [{ secret = "HIVE_KEY" }]\n'
        )
        self.assertEqual(self.run_tool("kit", "make", "brood-probe", "--save", "a.kit").status, 0)
        (self.folder / "greenstep.toml").unlink()
        self.upload = ("upload", "a.kit", "--port", "bench:brood-probe", "--trace", "a.vcd")

    def test_none_is_taken_silently(self) -> None:
        run = self.run_tool(*self.upload, HIVE_KEY="beeswax-41")
        self.assertEqual((run.status, "the kit asks for the secret HIVE_KEY" in run.err), (2, True), run.text)
        self.assertNotIn("●", run.out)  # before the port is opened
        self.assertFalse((self.folder / "a.vcd").exists())

    def test_it_is_given_by_name(self) -> None:
        run = self.run_tool(*self.upload, "--allow-secret", "HIVE_KEY", HIVE_KEY="beeswax-41")
        self.assertEqual((run.status, "sent HIVE_KEY" in run.out), (0, True), run.text)
        self.assertNotIn("beeswax-41", run.text + (self.folder / "a.vcd").read_text())
        unset = self.run_tool(*self.upload, "--allow-secret", "HIVE_KEY")
        self.assertEqual((unset.status, "set HIVE_KEY" in unset.err), (2, True), unset.text)
        other = self.run_tool(*self.upload, "--allow-secret", "HOME")
        self.assertEqual((other.status, "asks for no secret 'HOME'" in other.err), (2, True), other.text)

    def test_it_is_typed_on_a_terminal_though_it_is_in_the_environment(self) -> None:
        child = pexpect.spawn(
            COMMAND, [*self.upload], cwd=str(self.folder), timeout=60, encoding="utf-8",
            env=self.environment(TERM="xterm", HIVE_KEY="beeswax-41"),
        )  # fmt: skip
        child.expect("asks for HIVE_KEY")
        self.assertNotIn("●", child.before)
        child.sendline("another-7")
        child.expect(pexpect.EOF)
        child.close()
        self.assertEqual(child.exitstatus, 0, child.before)
        self.assertIn("sent HIVE_KEY", child.before)
        self.assertNotIn("another-7", child.before)


class OfTheApiary(ToolTest):
    def test_a_kit_of_each_board_does_what_the_board_does(self) -> None:
        """Packed, moved to another folder, uploaded: the same steps with the same evidence, byte for byte."""
        shutil.copytree(APIARY, self.folder / "apiary")
        (self.folder / "friend").mkdir()
        project = self.folder / "apiary" / "greenstep.toml"
        for board in tomlkit.parse(project.read_text())["board"]:
            with self.subTest(board):
                whole = ("--project", str(project), "--json")
                made = self.run_tool("kit", "make", board, "--save", f"friend/{board}.kit", *whole)
                self.assertEqual(made.status, 0, made.text)
                memories = []
                for number, words in enumerate(((board, *whole), (f"friend/{board}.kit", "--json"))):
                    memory = self.folder / f"{board}-{number}.chip"
                    run = self.run_tool("upload", *words, "--port", f"bench:{board}?memory={memory}")
                    self.assertEqual(run.status, 0, run.text)
                    ended = [event for event in run.events if event["event"] == "step-ended"]
                    memories.append(
                        ([(e["step"], e["outcome"], e["evidence"]) for e in ended], json.loads(memory.read_text()))
                    )
                self.assertEqual(memories[0], memories[1])

    def test_all_that_a_board_names_is_packed(self) -> None:
        """Also its EEPROM, its ELF file and the files of its settings, wherever they are."""
        for name in ("settings.bin", "lift.elf", "old.bin"):
            (self.folder / "apart").mkdir(exist_ok=True)
            (self.folder / "apart" / name).write_bytes(name.encode() * 9)
        table = {
            "chip": "atmega328p", "images": ["hive-scale.hex"], "eeprom": [{"file": "apart/settings.bin", "at": 4}],
            "elf": "apart/lift.elf", "set": {"old": {"file": "apart/old.bin"}},
        }  # fmt: skip
        self.project(tomlkit.dumps({"board": {"a": table}}))
        run = self.run_tool("kit", "make", "a", "--save", "a.kit")
        self.assertEqual(run.status, 0, run.text)
        kit = read_kit(self.folder / "a.kit")
        self.assertEqual(
            {*kit.members}, {f"images/{n}" for n in ("hive-scale.hex", "settings.bin", "lift.elf", "old.bin")}
        )
        expected = board_from_table(table, "", self.folder)
        (self.folder / "out").mkdir()
        found = kit.unpack(self.folder / "out")["a"]
        self.assertEqual(
            [(i.file.read_bytes(), i.at, i.memory) for i in found.images or ()],
            [(i.file.read_bytes(), i.at, i.memory) for i in expected.images or ()],
        )
        assert found.set is not None and found.elf is not None
        self.assertEqual(found.elf.read_bytes(), b"lift.elf" * 9)
        self.assertEqual(found.set["old"].read_bytes(), b"old.bin" * 9)

    def test_devices_and_pipes_are_no_files(self) -> None:
        """Each would be read for ever."""
        import os

        os.mkfifo(self.folder / "pipe.bin")
        for file in ("/dev/zero", "pipe.bin"):
            for key in ('images = ["{0}"]', 'images = ["hive-scale.hex"]\nelf = "{0}"'):
                with self.subTest(file=file, key=key):
                    self.project(f'[board.a]\nchip = "atmega328p"\n{key.format(file)}\n')
                    run = self.run_tool("kit", "make", "a", "--save", "a.kit")
                    self.assertEqual((run.status, "device or a pipe" in run.text), (2, True), run.text)


if __name__ == "__main__":
    unittest.main()
