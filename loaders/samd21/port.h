/* Doorstep for SAM D21: SAM D21/DA1 Family data sheet (DS40001882), chapters 16 (PM), 15 (GCLK), 17 (SYSCTRL), 22
   (NVMCTRL), 23 (PORT), 26 (SERCOM USART). The loader is copied into RAM, so that it hears while the flash is busy. */

#define DOOR_HAS_VTOR 1
#define DOOR_IN_RAM 1
#include "cortex.h"

#define DOOR_ERASES_ITSELF 1
#define DOOR_UNIT 256u
#define DOOR_ERASE 256u
#define DOOR_DATA 1024u
#define DOOR_FRAMES 3
#define DOOR_BEGIN 2048u
#define DOOR_END (facts.end * DOOR_ERASE)
#define DOOR_TOP (facts.top * DOOR_ERASE)
#define DOOR_OWN_FACTS 38u
#define DOOR_FACTS (DOOR_OWN_FACTS + 16u)
#define FACTS \
  {1, 4, 1 | 2 | 4 | 8 | 16, DOOR_FRAMES, {0, 0}, 0, 16, DOOR_BEGIN / DOOR_ERASE, 1023, 1024, DOOR_ERASE, DOOR_UNIT, \
   DOOR_DATA, 240, 8000, HALVES(115200u), HALVES(8000000u), 0, 1500, 150, 0xC505u, 10, 11, 255, 2, 0x42000800u, 0x40310004u}
/* The pins are 32 times the group, plus the number; function: 2 for C, 3 for D. line is the BAUD register, usart where the
   SERCOM's registers are, control its CTRLA, not enabled: DORD, RXPO, TXPO, MODE. */

#define GROUP(pin) (0x41004400u + 0x80u * ((pin) >> 5))
#define SYSCTRL_OSC8M REG(0x40000820)
#define PM_APBCMASK REG(0x40000420)
#define GCLK_CLKCTRL REG16(0x40000C02)
#define NVM_CTRLA REG16(0x41004000)
#define NVM_CTRLB REG(0x41004004)
#define NVM_INTFLAG REG8(0x41004014)
#define NVM_ADDR REG(0x4100401C)
#define NVM_ERASE_ROW 0xA502u
#define NVM_WRITE_PAGE 0xA504u
#define NVM_CLEAR_BUFFER 0xA544u
#define DSU_DID REG(0x41002018)
#define SYSTICK_CTRL REG(0xE000E010)
#define SYSTICK_LOAD REG(0xE000E014)
#define SYSTICK_VAL REG(0xE000E018)
#define SERCOM facts.usart
#define USART_CTRLA REG(SERCOM)
#define USART_CTRLB REG(SERCOM + 0x04)
#define USART_BAUD REG16(SERCOM + 0x0C)
#define USART_INTFLAG REG8(SERCOM + 0x18)
#define USART_SYNCBUSY REG(SERCOM + 0x1C)
#define USART_DATA REG16(SERCOM + 0x28)
#define WAY_PIN facts.way
#define RX_PIN facts.rx
#define BREAK_TURNS 20000u

static uint32_t word_of(const uint8_t *from);
static void poll(void);

static bool port_heard(void) { return USART_INTFLAG & 4; }
static uint32_t port_take(void) { return (uint8_t)USART_DATA; }
static bool port_room(void) { return USART_INTFLAG & 1; }
static void port_give(uint32_t value) { USART_DATA = (uint16_t)value; }
static void port_sent(void) {
  while (!(USART_INTFLAG & 2))
    ;
}
static bool port_tick(void) { return SYSTICK_CTRL >> 16 & 1; }

static void settled(void) {
  while (USART_SYNCBUSY)
    ;
}

APART void line_at(uint32_t baud) {
  USART_CTRLA = 0;
  settled();
  USART_BAUD = (uint16_t)baud;
  USART_CTRLB = 3u << 16; /* receiver, transmitter */
  USART_CTRLA = facts.control | 2;
  settled();
}

static void port_rate(uint32_t setting) { line_at(0x10000u - (setting >> 12)); }

APART void pin_to_line(uint32_t pin) {
  volatile uint8_t *multiplexer = &REG8(GROUP(pin) + 0x30 + (pin & 31) / 2);
  uint32_t shift = (pin & 1) * 4;
  *multiplexer = (uint8_t)((*multiplexer & ~(15u << shift)) | (uint32_t)facts.function << shift);
  REG8(GROUP(pin) + 0x40 + (pin & 31)) = 3;
}

APART void port_open(void) {
  uint32_t number = (facts.usart >> 10 & 7) - 2; /* 42000800, 42000C00 ... */
  PM_APBCMASK |= 4u << number;
  GCLK_CLKCTRL = (uint16_t)(0x4014u + number);
  pin_to_line(facts.tx);
  pin_to_line(facts.rx);
  line_at(facts.line);
}

static void port_start(void) { reset_chip(REQUEST_START); }
static uint8_t port_flash(uint32_t address) { return *(const volatile uint8_t *)address; }
static uint32_t port_word(uint32_t address) { return *(const volatile uint32_t *)address; }

/* A command for a place in the flash, which nothing is read from until it is done. */
APART void nvm(uint32_t command, uint32_t address) {
  NVM_ADDR = address / 2;
  NVM_CTRLA = (uint16_t)command;
  while (!(NVM_INTFLAG & 1))
    poll();
}

static void port_erase(uint32_t address) { nvm(NVM_ERASE_ROW, address); }

APART void port_write(uint32_t address, const uint8_t *data) {
  uint32_t at;
  nvm(NVM_ERASE_ROW, address);
  for (at = 0; at < DOOR_UNIT; at += 4) {
    if (!(at & 63))
      nvm(NVM_CLEAR_BUFFER, address + at);
    REG(address + at) = word_of(data + at);
    if ((at & 63) == 60)
      nvm(NVM_WRITE_PAGE, address + at - 60);
  }
}

static uint8_t port_fact(uint32_t at) {
  uint32_t id = at - DOOR_OWN_FACTS;
  if (at >= 4 && at < 8)
    return (uint8_t)((DSU_DID & 0xFFFF00FFu) >> (at & 3) * 8); /* without its revision */
  if (at < DOOR_OWN_FACTS)
    return ((const uint8_t *)&facts)[at];
  return port_flash(id < 4 ? 0x0080A00Cu + id : 0x0080A03Cu + id);
}

/* Whether a pin is low, and stays so for so many turns. */
APART bool port_held_low(uint32_t pin, uint32_t turns) {
  uint32_t settles = 100, group = GROUP(pin), bit = pin & 31;
  if (pin > 63)
    return false;
  REG(group + 0x18) = 1u << bit;
  REG8(group + 0x40 + bit) = 6; /* an input, pulled up */
  while (settles--)
    (void)REG(group + 0x20);
  while (turns--)
    if (REG(group + 0x20) >> bit & 1)
      return false;
  return true;
}

static void port_begin(void) {
  SYSCTRL_OSC8M &= ~(3u << 8); /* 8 MHz */
  NVM_CTRLB = 0x80;            /* pages are written when told */
  SYSTICK_LOAD = 79999;
  SYSTICK_VAL = 0;
  SYSTICK_CTRL = 5;
}
