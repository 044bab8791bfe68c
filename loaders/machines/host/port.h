/* Doorstep for this computer: a chip that nobody makes, to try the portable part on. Its time and its line are those
   of the program that runs it (machine.h). Two kinds, by how flash is written:

   DOOR_KIND 1  pages of 128 bytes that a write erases itself, while the UART is heard
   DOOR_KIND 2  words of 4 bytes, pages of 1 KiB that are erased apart; nothing is heard meanwhile, and the UART holds
                6 characters */

#include "machine.h"

#if DOOR_KIND == 1
#define DOOR_ERASES_ITSELF 1
#define DOOR_UNIT 128u
#define DOOR_ERASE 128u
#define DOOR_BEGIN 0u
#define DOOR_END 0x7B80u
#define DOOR_TOP 0x8000u
#define DOOR_DATA 512u
#else
#define DOOR_ERASES_ITSELF 0
#define DOOR_UNIT 4u
#define DOOR_ERASE 1024u
#define DOOR_BEGIN 0x800u
#define DOOR_END 0xFC00u
#define DOOR_TOP 0x10000u
#define DOOR_DATA 1024u
#endif
#define DOOR_FRAMES 3
#define DOOR_FACTS 38

static void poll(void);

static bool port_heard(void) { return machine_heard(); }
static uint32_t port_take(void) { return machine_take(); }
static bool port_room(void) { return machine_room(); }
static void port_give(uint32_t value) { machine_give((uint8_t)value); }
static void port_sent(void) { machine_sent(); }
static bool port_tick(void) { return machine_tick(); }
static void port_open(void) { machine_rate(115200); }
static void port_rate(uint32_t setting) { machine_rate(2000000u / (setting ? setting : 1)); }
static void port_start(void) { machine_start(); }
static uint8_t port_flash(uint32_t address) { return machine_flash[address]; }

#define DOOR_SUMMED(size) machine_busy((size) * 3 / 2, 0) /* as long as at 16 MHz */

static uint32_t word_of(const uint8_t *from);
static uint32_t port_word(uint32_t address) { return word_of(machine_flash + address); }

static void port_erase(uint32_t address) {
  machine_erase(address, DOOR_ERASE);
  machine_busy(DOOR_KIND == 1 ? 4500 : 21000, DOOR_KIND == 1 ? poll : 0);
}

static void port_write(uint32_t address, const uint8_t *data) {
  if (DOOR_ERASES_ITSELF)
    port_erase(address);
  machine_program(address, data, DOOR_UNIT);
  machine_busy(DOOR_KIND == 1 ? 4500 : 46, DOOR_KIND == 1 ? poll : 0);
}

#define TWO(value) (uint8_t)(value), (uint8_t)((value) >> 8)
#define FOUR(value) TWO(value), (uint8_t)((value) >> 16), (uint8_t)((value) >> 24)

static uint8_t port_fact(uint32_t at) {
  static const uint8_t facts[DOOR_FACTS] = {
      1, 0xFF, (DOOR_ERASES_ITSELF ? 1 : 0) | 2 | 4 | (DOOR_KIND == 1 ? 8 : 0) | 16, DOOR_FRAMES,
      FOUR(0xD00F00u | DOOR_KIND), 0, 0,
      TWO(DOOR_BEGIN / DOOR_ERASE), TWO(DOOR_END / DOOR_ERASE), TWO(DOOR_TOP / DOOR_ERASE),
      TWO(DOOR_ERASE), TWO(DOOR_UNIT), TWO(DOOR_DATA), TWO(240),
      TWO(16000), FOUR(115200u), FOUR(2000000u), TWO(4096), TWO(1000),
  };
  return facts[at];
}
