"""Facts about chips and loaders that a dialect is easily wrong about, each with the test that holds it."""

from __future__ import annotations

import importlib
import unittest

FACTS = {
    "a recovery's hash counts for the slot that was written": "test_smp.Slots.test_what_another_slot_holds_is_no_proof",
    "image and slot have numbers": "test_smp.Slots.test_the_slot_is_named_by_its_number",
    "a running program shows the tag of the file": "test_smp.Slots.test_a_tag_is_no_sum",
    "after match: false it is sent again": "test_smp.Slots.test_after_a_mismatch_it_is_sent_again_from_the_beginning",
    "length and CRC go into the buffer": "test_smp.Slots.test_packets_leave_room_for_their_length_and_crc",
    "silence to a question for parameters": "test_smp.Slots.test_a_server_that_does_not_tell_its_buffer",
    "the hash of an encrypted image is of the plain one": "test_smp.Slots.test_an_encrypted_image_is_taken_by_the_hash_that_it_tells",
    "older recoveries list versions only": "test_smp.Slots.test_a_recovery_that_lists_versions_only_leaves_it_unproven",
    "a damaged first packet": "test_smp.Slots.test_a_damaged_first_packet_is_sent_again_at_once",
    "EFR32 judges the file": "test_xmodem.Recipes.test_the_loaders_own_judgement_of_the_file_counts",
    "a call may stand behind a prompt": "test_xmodem.Recipes.test_a_call_behind_a_prompt_on_its_line_is_taken",
    "the sector of CCFG goes as a whole": "test_ti.TheWayBack.test_a_sector_that_is_touched_counts_whole",
    "IMAGE_VALID names what the ROM starts": "test_ti.TheWayBack.test_what_the_rom_would_not_start_is_refused",
    "an upload that was cut enters by itself": "test_ti.TheWayBack.test_the_configuration_goes_first_and_comes_last",
    "some loaders take only the program's start": "test_ti.Tiva.test_a_loader_that_takes_only_the_start_gets_all_in_one_go",
    "erase units go by the size": "test_stm32_rom.Layouts.test_units_that_nothing_tells_are_not_erased",
    "F76x with two banks": "test_stm32_rom.Layouts.test_a_flash_of_two_banks_has_smaller_sectors",
    "L55x with one bank": "test_stm32_rom.Layouts.test_pages_of_one_bank_are_larger_and_those_of_a_second_counted_apart",
    "all of APROM goes, from 0 on": "test_nuvoton.Nuvoton.test_what_begins_elsewhere_would_erase_what_is_before_it",
    "nothing beside is kept by an LDROM": "test_nuvoton.Nuvoton.test_nothing_can_be_kept_or_restored_in_part",
    "the number in the data word, and 8051 loaders": "test_nuvoton.Nuvoton.test_every_kind_of_loader",
    "APROM ends at data flash": "test_nuvoton.Nuvoton.test_the_flash_ends_where_data_flash_begins",
    "a NuMicro's number": "test_nuvoton.Nuvoton.test_another_chip_than_the_declared_one",
    "a program below the flash's start": "test_msp430.Passwords.test_programs_are_never_left_out",
    "a refused password erases": "test_msp430.Passwords.test_a_wrong_one_is_sent_once",
    "version 1.x erases in several goes": "test_msp430.Passwords.test_first_loaders_erase_in_several_goes_and_never_for_a_password",
    "an FR part may reset": "test_msp430.Passwords.test_an_erase_that_ends_in_a_reset",
    "the device id after the password": "test_msp430.Passwords.test_the_number_that_shows_after_the_password_is_compared",
    "several parts share a number": "test_msp430.Passwords.test_a_part_is_named_where_several_tell_one_number",
    "signatures": "test_msp430.Passwords.test_what_locks_is_told",
    "TCK in place of TEST": "test_msp430.Passwords.test_parts_with_tck_have_it_inverted",
    "size and SDID of a Kinetis": "test_nxp_mcu.OtherChips.test_size_and_number_are_compared_with_the_declared_part",
    "security of LPC55": "test_nxp_mcu.OtherChips.test_security_of_the_lpc55_generation",
    "DEVCFG alone is left out": "test_pic32.Pic32.test_virtual_addresses_and_configuration_words",
    "the block of the entry comes last": "test_pic32.Pic32.test_a_cut_leaves_a_loader_that_stays",
    "the loader in boot flash": "test_pic32.Pic32.test_a_loader_in_the_boot_flash_alone",
    "a hang-up erases": "test_sam_ba.Silicon.test_a_hang_up_that_erases_is_an_erase",
    "G takes vectors or code": "test_sam_ba.Silicon.test_vectors_are_tried_and_then_code",
    "reads of a power of two hang": "test_sam_ba.Silicon.test_by_usb_no_read_is_a_power_of_two",
    "SAM D10": "test_sam_ba.Silicon.test_the_smallest_parts_have_room_for_the_routine",
    "verify=whole": "test_esp_flash.Whole.test_whole_is_neither_a_sample_nor_the_journal",
    "verify --blank": "test_esp_flash.Whole.test_blank_is_never_answered_by_a_sample",
    "a size that is not told": "test_esp_flash.Size.test_unknown_is_not_the_largest",
    "SFDP": "test_esp_flash.Size.test_its_own_tables_tell_it",
    "no flash": "test_esp_flash.Size.test_no_flash_is_refused",
    "begins on sectors": "test_esp_flash.Places.test_blanks_in_a_sector_do_not_shift_what_begins_there",
    "the last sector": "test_esp_flash.Places.test_one_byte_in_the_last_sector_of_an_esp8266",
    "waiting for download": "test_esp_flash.Starts.test_what_the_rom_says_after_an_acknowledged_reset_counts",
    "ABS_DONE_1": "test_esp_flash.Starts.test_secure_boot_of_either_version",
    "text behind the boot text": "test_left_as_it_was.OtherRates.test_another_text_behind_the_boot_text_of_an_esp8266_is_another_text",
    "padding of pages and blocks": "test_what_is_proven.OneByte.test_a_byte_that_does_not_hold_what_was_written_is_never_green",
    "the rest of an erase unit": "test_what_is_proven.Beside.test_a_part_that_is_restored_leaves_the_rest_of_its_unit",
    "a difference, then reads that fail": "test_what_is_proven.Legal.test_any_two_failures_end_in_words",
    "512 hidden bytes": "test_every_dialect.Lpc.test_what_lies_behind_the_rom_is_not_green_even_if_the_program_runs",
    "2 KiB of RAM": "test_chips.Records.test_buffers_are_clear_of_what_isp_uses",
    "odd counts": "test_avr_068.OddSizes.test_flash_is_read_in_whole_words",
    "a word like a jump": "test_avr_061.Bootloaders.test_an_old_programs_word_that_looks_like_a_jump_is_no_loader",
    "--bootloader-bytes": "test_avr_061.Bootloaders.test_what_is_said_of_its_size_decides",
    "a backup with its loader": "test_avr_061.Bootloaders.test_a_backup_goes_back_whatever_loader_is_in_it",
    "a loader that runs already": "test_survey.Learning.test_a_loader_that_runs_already_without_a_program_counts",
    "a loader that its program calls": "test_pic18.Called.test_a_loader_that_only_its_program_leads_to_is_told_of",
    "a damaged key": "test_pic_unified.WhatItTells.test_a_damaged_key_erases_nothing_and_is_no_erase_beside",
    "DEVID of a PIC18": "test_pic_unified.WhatItTells.test_the_number_of_another_part_is_refused",
    "a lost last answer": "test_packages.Nrf5Dfu.test_the_last_answer_lost_is_no_failure_where_the_loader_has_gone",
    "results of DFU": "test_packages.Nrf5Dfu.test_results_by_the_names_of_the_document",
    "data flash of RA": "test_ra.DataFlash.test_it_is_written_and_proven",
    "option-setting memory of RA": "test_ra.DataFlash.test_only_option_setting_memory_is_left_out",
    "reply mode and BUSY": "test_stm8.Silicon.test_reply_mode_and_a_loader_that_says_that_it_is_busy",
    "one stuck byte": "test_findings.PlainObservations.test_one_stuck_byte_in_the_last_block_is_no_end_that_was_not_written",
    "a refusal": "test_findings.PlainObservations.test_a_refusal_is_a_damaged_line_only_where_the_line_was_seen_to_be",
    "a third reading": "test_stm32_rom.BadLine.test_a_block_that_is_damaged_in_both_readings_is_read_once_more",
    "names on packages": "test_chips.Names.test_names_people_use",
}  # fmt: skip


class Held(unittest.TestCase):
    def test_each_has_its_test(self) -> None:
        for fact, place in FACTS.items():
            with self.subTest(fact):
                module, case, name = place.split(".")
                self.assertTrue(hasattr(getattr(importlib.import_module(f"tests.core.{module}"), case), name), place)


if __name__ == "__main__":
    unittest.main()
