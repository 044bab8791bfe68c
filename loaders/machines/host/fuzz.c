/* A million frames for the portable loader, of every kind that a line and a careless host can make: `fuzz FRAMES SEED`.
   Built with sanitizers, which end it if anything is wrong; it ends itself if the loader changes what is not its own, or
   starts an application that is not whole. */

#include "machine.h"

#include <setjmp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "doorstep.c"

uint8_t machine_flash[0x40000];
static uint32_t left, state = 1, answers, starts;
static uint8_t frame[8192];
static size_t length, next;
static jmp_buf again;

static uint32_t any(uint32_t below) {
  state ^= state << 13;
  state ^= state >> 17;
  state ^= state << 5;
  return state % below;
}

static void fail(const char *what) {
  fprintf(stderr, "%s, with %u frames left\n", what, left);
  exit(1);
}

/* A message becomes a frame: its CRC, and COBS. */
static void enclose(uint8_t *message, size_t size) {
  size_t at = 0;
  uint32_t crc = 0xFFFFFFFFu, bit;
  for (size_t n = 0; n < size; n++)
    for (crc ^= message[n], bit = 0; bit < 8; bit++)
      crc = crc >> 1 ^ (crc & 1 ? 0xEDB88320u : 0);
  put_word(message + size, ~crc);
  size += 4;
  length = 0;
  for (;;) {
    size_t run = 0;
    while (at + run < size && message[at + run] && run < 254)
      run++;
    frame[length++] = (uint8_t)(run + 1);
    memcpy(frame + length, message + at, run);
    length += run;
    at += run;
    if (at == size)
      break;
    if (run < 254)
      at++;
  }
  frame[length++] = 0;
}

static uint32_t number(void) {
  static const uint32_t likely[] = {0, 1, 4, 63, 64, 127, 128, 240, 241, 512, 1024, 0xFFFF, 0x10000, 0xFFFFFFFF, 0x80000000};
  switch (any(5)) {
  case 0:
    return likely[any(sizeof likely / sizeof *likely)];
  case 1:
    return DOOR_END + any(5) * DOOR_UNIT - 2 * DOOR_UNIT;
  case 2:
    return any(DOOR_TOP / DOOR_ERASE + 4) * DOOR_ERASE;
  case 3:
    return any(DOOR_TOP + 99);
  default:
    return any(0xFFFFFFFF);
  }
}

static void next_frame(void) {
  static uint8_t message[4096];
  size_t size = 10, at;
  uint32_t kind = any(16);
  if (!left--) {
    printf("%u answers, %u starts\n", answers, starts);
    exit(0);
  }
  message[0] = (uint8_t)(any(12) ? any(10) : any(256));
  message[1] = (uint8_t)any(256);
  put_word(message + 2, number());
  put_word(message + 6, message[0] == DIGEST && any(2) ? any(300) | any(80) << 16 : number());
  if (message[0] == SEAL && any(2)) { /* a right one */
    uint32_t size_of = 1 + any(2000);
    put_word(message + 2, size_of);
    put_word(message + 6, sum_of(DOOR_BEGIN, size_of));
  }
  if (message[0] == WRITE) {
    put_word(message + 2, DOOR_BEGIN + any(40) * DOOR_UNIT);
    size = 6 + any(9) * DOOR_UNIT;
    for (at = 6; at < size; at++)
      message[at] = (uint8_t)(any(3) ? any(256) : 0xFF);
  }
  if (kind == 0)
    size = any(30);
  if (kind == 1)
    size = DOOR_DATA + any(40);
  enclose(message, size);
  if (kind == 2)
    frame[any((uint32_t)length)] ^= (uint8_t)(1 + any(255));
  if (kind == 3)
    memmove(frame + length / 2, frame + length / 2 + 1, length - length / 2 - 1), length--;
  if (kind == 4)
    for (at = 0, length = 1 + any(3000); at < length; at++)
      frame[at] = (uint8_t)(any(8) ? any(256) : 0);
  if (kind == 5)
    length = any((uint32_t)length) + 1;
  next = 0;
}

static void check(void) {
  uint32_t at;
  for (at = 0; at < DOOR_BEGIN; at++)
    if (machine_flash[at] != 0x5A)
      fail("the loader's own room was changed");
  for (at = DOOR_END + DOOR_ERASE; at < DOOR_TOP; at++)
    if (machine_flash[at] != 0x5A)
      fail("something behind the seal was changed");
}

bool machine_heard(void) { return any(64) != 0; }

uint8_t machine_take(void) {
  if (next >= length)
    next_frame();
  return frame[next++];
}

bool machine_room(void) { return any(3) != 0; }
void machine_give(uint8_t value) { answers += !value; }
void machine_sent(void) {}
bool machine_tick(void) { return !any(4000); }
void machine_rate(uint32_t baud) { (void)baud; }
void machine_busy(uint32_t microseconds, void (*meanwhile)(void)) {
  (void)microseconds;
  if (meanwhile)
    meanwhile();
}

void machine_start(void) {
  uint32_t size = word_of(machine_flash + DOOR_END);
  if (!size || size > DOOR_END - DOOR_BEGIN || sum_of(DOOR_BEGIN, size) != word_of(machine_flash + DOOR_END + 4))
    fail("an application that is not whole was started");
  check();
  starts++;
  longjmp(again, 1);
}

void machine_erase(uint32_t address, uint32_t size) {
  if (address < DOOR_BEGIN || address % DOOR_ERASE || address + size > DOOR_END + DOOR_ERASE)
    fail("an erase of what is not the application's");
  memset(machine_flash + address, 0xFF, size);
}

void machine_program(uint32_t address, const uint8_t *data, uint32_t size) {
  if (address < DOOR_BEGIN || address % DOOR_UNIT || address + size > DOOR_END + DOOR_ERASE)
    fail("a write to what is not the application's");
  while (size--)
    machine_flash[address++] &= *data++;
}

int main(int count, char **words) {
  if (count != 3)
    return 2;
  left = (uint32_t)strtoul(words[1], 0, 0);
  state = (uint32_t)strtoul(words[2], 0, 0) | 1;
  memset(machine_flash, 0x5A, sizeof machine_flash);
  memset(machine_flash + DOOR_BEGIN, 0xFF, DOOR_END + DOOR_ERASE - DOOR_BEGIN);
  if (setjmp(again))
    memset(&door, 0, sizeof door);
  doorstep(100);
}
