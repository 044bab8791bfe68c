/* Doorstep for nRF51 and nRF52 with a UART (not only a UARTE): nRF51 Series Reference Manual 3.0, nRF52832 and nRF52840
   Product Specifications. The CPU stands still while a page is erased; a word is written between two characters. */

#define DOOR_HAS_VTOR DOOR_NRF52
#include "cortex.h"

#define DOOR_ERASES_ITSELF 0
#define DOOR_UNIT 4u
#define DOOR_DATA 1024u
#define DOOR_FRAMES 3
#if DOOR_NRF52
#define DOOR_ERASE 4096u
#define DOOR_PART 0x52832u
#define DOOR_TOP_UNITS 128
#define DOOR_KHZ 64000
#else
#define DOOR_ERASE 1024u
#define DOOR_PART 0x51822u
#define DOOR_TOP_UNITS 256
#define DOOR_KHZ 16000
#endif
#define DOOR_ROOM (DOOR_NRF52 ? 4096u : 2048u)
#define DOOR_BEGIN DOOR_ROOM
#define DOOR_END (facts.end * DOOR_ERASE)
#define DOOR_TOP (facts.top * DOOR_ERASE)
#define DOOR_OWN_FACTS 38u
#define DOOR_FACTS (DOOR_OWN_FACTS + 8u)

#define FACTS \
  {1, 3, 2 | 4 | 16, DOOR_FRAMES, HALVES(DOOR_PART), 0, 8, DOOR_ROOM / DOOR_ERASE, DOOR_TOP_UNITS - 1, DOOR_TOP_UNITS, \
   DOOR_ERASE, DOOR_UNIT, DOOR_DATA, 240, DOOR_KHZ, HALVES(115200u), HALVES(16000000u), 0, 1500, 150, 0x01D7E000u, 24, 25, \
   255, 0, 0, 0}
#define TX_PIN facts.tx
#define RX_PIN facts.rx
#define WAY_PIN facts.way

#define UART 0x40002000u
#define UART_ENABLE REG(UART + 0x500)
#define UART_RXDRDY REG(UART + 0x108)
#define UART_TXDRDY REG(UART + 0x11C)
#define UART_RXD REG(UART + 0x518)
#define UART_TXD REG(UART + 0x51C)
#define UART_BAUDRATE REG(UART + 0x524)
#define NVMC 0x4001E000u
#define NVMC_READY REG(NVMC + 0x400)
#define NVMC_CONFIG REG(NVMC + 0x504)
#define NVMC_ERASEPAGE REG(NVMC + 0x508)
#define TIMER 0x40008000u
#define TIMER_COMPARE REG(TIMER + 0x140)
#define GPIO 0x50000000u
#define GPIO_OUTSET REG(GPIO + 0x508)
#define GPIO_IN REG(GPIO + 0x510)
#define GPIO_DIRSET REG(GPIO + 0x518)
#define PULLED_UP (3u << 2) /* an input */
#define FICR_ID 0x10000060u
#define FICR_PART REG(0x10000100)

static bool port_heard(void) { return UART_RXDRDY; }
static uint32_t port_take(void) {
  UART_RXDRDY = 0;
  return UART_RXD;
}
static bool port_room(void) { return UART_TXDRDY; }
static void port_give(uint32_t value) {
  UART_TXDRDY = 0;
  UART_TXD = value;
}
static void port_sent(void) {
  while (!port_room())
    ;
}
static bool port_tick(void) {
  if (!TIMER_COMPARE)
    return false;
  TIMER_COMPARE = 0;
  return true;
}
static void port_rate(uint32_t setting) { UART_BAUDRATE = (setting + 0x800u) & ~0xFFFu; }

APART void port_open(void) {
  GPIO_OUTSET = 1u << (TX_PIN & 31);
  GPIO_DIRSET = 1u << (TX_PIN & 31);
  REG(UART + 0x50C) = TX_PIN;
  REG(UART + 0x514) = RX_PIN;
  port_rate(facts.line);
  UART_ENABLE = 4;
  REG(UART + 0x008) = 1; /* start to send, and to receive */
  REG(UART + 0x000) = 1;
  UART_TXD = 0; /* so that every other finds one before it, which it waits for */
}

static void port_start(void) { reset_chip(REQUEST_START); }
static uint8_t port_flash(uint32_t address) { return *(const volatile uint8_t *)address; }
static uint32_t port_word(uint32_t address) { return *(const volatile uint32_t *)address; }

static uint32_t word_of(const uint8_t *from);

static void nvmc(uint32_t mode) {
  while (!NVMC_READY)
    ;
  NVMC_CONFIG = mode;
}

APART void port_erase(uint32_t address) {
  nvmc(2);
  NVMC_ERASEPAGE = address;
  nvmc(0);
}

APART void port_write(uint32_t address, const uint8_t *data) {
  nvmc(1);
  REG(address) = word_of(data);
  nvmc(0);
}

static uint8_t port_fact(uint32_t at) {
#if DOOR_NRF52
  if (at >= 4 && at < 8)
    return (uint8_t)(FICR_PART >> (at & 3) * 8);
#endif
  return at < DOOR_OWN_FACTS ? ((const uint8_t *)&facts)[at] : port_flash(FICR_ID + at - DOOR_OWN_FACTS);
}

/* Whether a pin is low, and stays so for so many turns. */
APART bool port_held_low(uint32_t pin, uint32_t turns) {
  uint32_t settles = 100;
  if (pin > 31)
    return false;
  REG(GPIO + 0x700 + 4 * pin) = PULLED_UP;
  while (settles--)
    (void)GPIO_IN;
  while (turns--)
    if (GPIO_IN >> pin & 1)
      return false;
  return true;
}
#define BREAK_TURNS (DOOR_KHZ * 20u / 8u)

static void port_begin(void) {
  REG(0x40000000) = 1; /* the crystal, if there is one */
  REG(TIMER + 0x540) = 10000; /* after a reset it counts at 1 MHz; from 0 again at that */
  REG(TIMER + 0x200) = 1;
  REG(TIMER + 0x000) = 1;
}
