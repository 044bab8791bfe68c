/* An AVR in simavr, run by another program through two pipes; the orders and events are those of ../host/machine.c, and
   besides V, something that the datasheet forbids (at this address).

   simavr does what an SPM asks for at once, and lets everything be read meanwhile. Here the flash is busy for as long as
   on the chip, and what may not be read or done then is told. Its UART takes a tenth longer for a character than the line
   does; here is one that holds two characters, and a third until the next begins, as the datasheets have it. */

#include <simavr/avr_ioport.h>
#include <simavr/sim_avr.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define HELD 0x40000
#define SPMCSR 0x57 /* in the data space, as all here */
#define RAMPZ 0x5B
#define SPMEN 0x01
#define RWWSRE 0x10
#define RWWSB 0x40
#define BUSY_US 4500 /* the longest that the datasheets give for a page */

static avr_t *avr;
static uint32_t loader, cut_in, seed = 1, baud;
static uint64_t busy_until, granted, reset_at;
static bool running, written;
static char port;
static int rx_bit;

static void event(uint8_t kind, uint32_t value) {
  uint8_t out[5] = {kind, (uint8_t)value, (uint8_t)(value >> 8), (uint8_t)(value >> 16), (uint8_t)(value >> 24)};
  fwrite(out, 1, sizeof out, stdout);
}

static uint32_t any(void) {
  seed = seed * 1664525u + 1013904223u;
  return seed >> 8;
}

static uint32_t z_address(void) {
  uint32_t z = avr->data[30] | (uint32_t)avr->data[31] << 8;
  return avr->flashend > 0xFFFF ? z | (uint32_t)avr->data[RAMPZ] << 16 : z;
}

#define UCSRA 0xC0
#define UCSRB 0xC1
#define UBRRL 0xC4
#define UBRRH 0xC5
#define UDR 0xC6

static uint8_t come[3], waiting;
static int held;          /* of them */
static bool has_waiting;  /* to be sent */
static uint64_t tx_until; /* the shift register is busy */

static uint32_t divisor(void) {
  uint32_t from = (avr->data[UBRRL] | (uint32_t)(avr->data[UBRRH] & 15) << 8) + 1;
  return from * (avr->data[UCSRA] & 2 ? 8 : 16);
}

/* What waits goes into the shift register once that is free. */
static void shift(void) {
  if (!has_waiting || avr->cycle < tx_until)
    return;
  tx_until = (tx_until > avr->cycle ? tx_until : avr->cycle) + 10 * divisor();
  has_waiting = false;
  event('S', waiting);
}

static uint8_t read_status(avr_t *of, avr_io_addr_t at, void *param) {
  (void)param;
  shift();
  return of->data[at] = (uint8_t)((of->data[at] & 3) | (held ? 0x80 : 0) | (has_waiting ? 0 : 0x20));
}

static uint8_t read_data(avr_t *of, avr_io_addr_t at, void *param) {
  uint8_t value = come[0];
  (void)of, (void)at, (void)param;
  if (!held)
    return 0;
  held--;
  memmove(come, come + 1, 2);
  return value;
}

static void write_data(avr_t *of, avr_io_addr_t at, uint8_t value, void *param) {
  (void)at, (void)param;
  shift();
  if (has_waiting)
    event('V', of->pc); /* the buffer is full */
  waiting = value;
  has_waiting = true;
  shift();
}

static void write_plain(avr_t *of, avr_io_addr_t at, uint8_t value, void *param) {
  (void)param;
  of->data[at] = value;
}

static void own_uart(void) {
  int at;
  for (at = UCSRA; at <= UDR; at++) {
    avr->io[AVR_DATA_TO_IO(at)].r.c = 0;
    avr->io[AVR_DATA_TO_IO(at)].w.c = write_plain;
  }
  avr->io[AVR_DATA_TO_IO(UCSRA)].r.c = read_status;
  avr->io[AVR_DATA_TO_IO(UDR)].r.c = read_data;
  avr->io[AVR_DATA_TO_IO(UDR)].w.c = write_data;
}

static uint64_t cycles_of(uint64_t microseconds) { return microseconds * (avr->frequency / 1000) / 1000; }

static void reset(void) {
  avr_reset(avr);
  avr->pc = avr->reset_pc = loader;
  held = 0;
  has_waiting = false;
  tx_until = 0;
  avr_raise_irq(avr_io_getirq(avr, AVR_IOCTL_IOPORT_GETIRQ(port), rx_bit), 0); /* a change is what it minds */
  avr_raise_irq(avr_io_getirq(avr, AVR_IOCTL_IOPORT_GETIRQ(port), rx_bit), 1);
  avr->data[0x54] = 2; /* MCUSR: an external reset */
  reset_at = avr->cycle;
  busy_until = 0;
  running = true;
  baud = 0;
}

/* The rate that the registers give, if it is another. */
static void look_at_rate(void) {
  uint32_t now = avr->frequency / divisor();
  if (avr->data[UCSRB] & 8 && now != baud)
    event('B', baud = now);
}

static void step(void) {
  uint32_t pc = avr->pc, z = z_address(), page = 0, at, size = 0;
  uint16_t opcode = avr->flash[pc] | avr->flash[pc + 1] << 8;
  uint8_t control = avr->data[SPMCSR], before[256];
  bool busy = avr->cycle < busy_until;

  if (!busy && busy_until) {
    avr->data[SPMCSR] &= (uint8_t)~SPMEN;
    control = avr->data[SPMCSR];
    busy_until = 0;
  }
  if (pc < loader) {
    event('G', pc);
    running = false;
    return;
  }
  if ((opcode & 0xFE0C) == 0x9004 && z < loader && written)
    event('V', pc); /* read before it was made readable again */
  if (opcode == 0x95E8) {
    if (busy)
      event('V', pc);
    if ((control & 7) == 3 || (control & 7) == 5) {
      size = avr->flashend >= 0xFFFF ? 256 : 128;
      page = z & ~(size - 1);
      memcpy(before, avr->flash + page, size);
      if (page >= loader)
        event('V', page);
    }
  }
  avr_run(avr);
  if (opcode == 0x95E8 && control & RWWSRE)
    written = false;
  if (size) {
    bool fails = cut_in && !--cut_in;
    event('F', page);
    for (at = 0; at < size; at++) {
      uint8_t *cell = avr->flash + page + at, becomes = (control & 7) == 3 ? 0xFF : *cell & before[at];
      *cell = (uint8_t)(before[at] ^ ((before[at] ^ becomes) & (fails ? any() : 0xFFu)));
    }
    written = true;
    avr->data[SPMCSR] |= SPMEN | RWWSB;
    busy_until = avr->cycle + cycles_of(BUSY_US);
    if (fails) {
      event('X', page);
      running = false;
    }
  }
}

static void pass(void) {
  while (running && avr->cycle < granted) {
    step();
    shift();
    look_at_rate();
  }
}

static void whole_flash(bool in) {
  static uint8_t held[HELD];
  size_t size = avr->flashend + 1u;
  if (in) {
    if (fread(held, 1, HELD, stdin) != HELD)
      exit(1);
    memcpy(avr->flash, held, size);
    return;
  }
  memset(held, 0xFF, HELD);
  memcpy(held, avr->flash, size);
  if (fwrite(held, 1, HELD, stdout) != HELD)
    exit(1);
  fflush(stdout);
}

int main(int count, char **words) {
  uint8_t order[5];
  if (count != 6)
    return 2; /* the chip, its clock, where its loader begins, the port and bit of its RX */
  avr = avr_make_mcu_by_name(words[1]);
  if (!avr)
    return 2;
  avr_init(avr);
  avr->log = LOG_NONE;
  avr->frequency = (uint32_t)strtoul(words[2], 0, 0);
  loader = (uint32_t)strtoul(words[3], 0, 0);
  port = words[4][0];
  rx_bit = atoi(words[5]);
  avr->codeend = avr->flashend;
  memset(avr->flash, 0xFF, avr->flashend + 1u);
  own_uart();
  while (fread(order, 1, sizeof order, stdin) == sizeof order) {
    uint32_t value = order[1] | (uint32_t)order[2] << 8 | (uint32_t)order[3] << 16 | (uint32_t)order[4] << 24;
    switch (order[0]) {
    case 'R':
      reset();
      break;
    case 'C':
      if (held < 3 && avr->data[UCSRB] & 0x10)
        come[held++] = (uint8_t)value;
      break;
    case 'P':
      cut_in = value;
      break;
    case 'A':
      granted = reset_at + cycles_of(value);
      pass();
      event('E', value);
      fflush(stdout);
      break;
    default:
      whole_flash(order[0] == 'L');
    }
  }
  return 0;
}
