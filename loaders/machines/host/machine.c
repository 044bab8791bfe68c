/* The chip that port.h describes, run by another program through two pipes.

   Orders are a letter and a number of 32 bits, low byte first:
     R  reset; the loader begins, and time with it
     C  this character has come whole
     A  let time pass up to so many microseconds
     P  in so many changes of the flash from now the supply fails in the middle of one; 0: never
     D  answered by the flash, 256 KiB
     L  256 KiB follow, which the flash holds from now on
   'A' is answered by events, a letter and a number again: S, a character sent; B, the rate; F, the flash is changed at
   this address; X, the supply failed; G, the application was started; and in the end E. */

#include "machine.h"

#include <setjmp.h>
#include <stdio.h>
#include <stdlib.h>

#include "doorstep.c"

#define FIFO (DOOR_KIND == 1 ? 2u : 6u)

uint8_t machine_flash[0x40000];
static uint32_t now, granted, tx_free, ticked, character_us, cut_in, held, seed = 1;
static uint8_t fifo[8];
static jmp_buf from_reset;
static bool running;

static void event(uint8_t kind, uint32_t value) {
  uint8_t out[5] = {kind};
  put_word(out + 1, value);
  fwrite(out, 1, sizeof out, stdout);
}

static void whole_flash(bool in) {
  size_t size = sizeof machine_flash;
  if ((in ? fread(machine_flash, 1, size, stdin) : fwrite(machine_flash, 1, size, stdout)) != size)
    exit(1);
  fflush(stdout);
}

/* Take orders until time may pass. */
static void obey(void) {
  uint8_t order[5];
  for (;;) {
    if (fread(order, 1, sizeof order, stdin) != sizeof order)
      exit(0);
    switch (order[0]) {
    case 'R':
      running = true;
      longjmp(from_reset, 1);
    case 'C':
      if (held < FIFO)
        fifo[held++] = order[1];
      break;
    case 'P':
      cut_in = word_of(order + 1);
      break;
    case 'A':
      granted = word_of(order + 1);
      if (running && now < granted)
        return;
      event('E', granted);
      fflush(stdout);
      break;
    default:
      whole_flash(order[0] == 'L');
    }
  }
}

static void pass(uint32_t microseconds) {
  for (now += microseconds; now >= granted;) {
    event('E', granted);
    fflush(stdout);
    obey();
  }
}

static void stop(uint8_t kind) {
  event(kind, now);
  running = false;
  event('E', granted);
  fflush(stdout);
  obey();
}

static uint32_t any(void) {
  seed = seed * 1664525u + 1013904223u;
  return seed >> 8;
}

/* A change of the flash; if the supply fails in it, some bits are as they were, some as they will be. */
static void alter(uint32_t address, const uint8_t *data, uint32_t size) {
  bool fails = cut_in && !--cut_in;
  uint32_t at;
  event('F', address);
  for (at = 0; at < size; at++) {
    uint8_t *cell = machine_flash + address + at, becomes = data ? *cell & data[at] : 0xFF;
    *cell ^= (uint8_t)((*cell ^ becomes) & (fails ? any() : 0xFFu));
  }
  if (fails)
    stop('X');
}

bool machine_heard(void) {
  pass(1);
  return held;
}

uint8_t machine_take(void) {
  uint8_t value = fifo[0], at;
  for (at = 1; at < held; at++)
    fifo[at - 1] = fifo[at];
  held--;
  return value;
}

bool machine_room(void) {
  pass(1);
  return now + character_us >= tx_free; /* one waits while another is sent */
}

void machine_give(uint8_t value) {
  tx_free = (tx_free > now ? tx_free : now) + character_us;
  event('S', value);
}

void machine_sent(void) {
  while (now < tx_free)
    pass(1);
}

bool machine_tick(void) {
  if (now - ticked < 10000)
    return false;
  ticked += 10000;
  return true;
}

void machine_rate(uint32_t baud) {
  character_us = 10000000u / baud;
  event('B', baud);
}

void machine_start(void) { stop('G'); }

void machine_busy(uint32_t microseconds, void (*meanwhile)(void)) {
  uint32_t until = now + microseconds;
  while (now < until)
    if (meanwhile)
      meanwhile(); /* which takes its time */
    else
      pass(until - now > 20 ? 20 : until - now);
}

void machine_erase(uint32_t address, uint32_t size) { alter(address, 0, size); }

void machine_program(uint32_t address, const uint8_t *data, uint32_t size) { alter(address, data, size); }

int main(void) {
  if (!setjmp(from_reset)) {
    for (now = 0; now < sizeof machine_flash; now++)
      machine_flash[now] = 0xFF;
  }
  now = granted = tx_free = ticked = held = 0;
  obey();
  doorstep(100);
}
