/* Doorstep, the portable part: frames, questions, the seal. docs/doorstep.md is the specification.

   It touches no register. A port is a header, "port.h", which says how the chip is laid out and, in a dozen small
   functions, how its UART, its clock and its flash are used; it is compiled with this file as one unit, so that nothing
   is paid for the border between them. Whatever waits calls `poll`, which takes what has come. */

#include <stdbool.h>
#include <stdint.h>

#ifndef APART
#define APART __attribute__((noinline)) static /* once, and not wherever it is used */
#endif

#include "port.h"

enum { HELLO = 1, DIGEST, ERASE, WRITE, READ, RATE, START, SEAL };
enum { DONE, REFUSED, KEPT };

#define HEAD 6u                    /* type, number, and an address or another number */
#define CRC 4u
#define QUESTION (HEAD + 4u + CRC) /* all but writes have one more number of 32 bits */
#define ANSWER 3u                  /* type, number, status */
#define ANSWER_BYTES 240u          /* behind them: the code byte tells how far the first zero is */
#define PLACE_BYTES (HEAD + DOOR_DATA + CRC)
#define RESIDUE 0xDEBB20E3u        /* of a message with its CRC behind it */
#define TRIAL 50u                  /* ticks of 10 ms: a new rate must be used by then */
#define TALK 1000u                 /* and the next question asked */

struct place {
  uint32_t length;
  uint8_t message[PLACE_BYTES];
};

/* Together, and the small ones first: so a Cortex-M0 reaches them all from one address. */
static struct {
  uint8_t left, full; /* of a run; how many messages wait */
  bool zero_due, deaf, trial, is_whole;
  uint8_t *at, *end;
  struct place *place, *turn; /* that is filled; the oldest of those that wait */
  uint32_t crc, patience; /* ticks left; 0: without end */
  uint32_t sum;           /* of the application, as far as its seal tells its length */
  struct place places[DOOR_FRAMES];
} door;

static void poll(void);

APART uint32_t word_of(const uint8_t *from) {
  return from[0] | (uint32_t)from[1] << 8 | (uint32_t)from[2] << 16 | (uint32_t)from[3] << 24;
}

APART uint8_t *put_word(uint8_t *to, uint32_t word) {
  uint8_t *end = to + 4;
  for (; to != end; word >>= 8)
    *to++ = (uint8_t)word;
  return to;
}

/* The CRC-32 of IEEE 802.3, without its last inversion. */
APART uint32_t crc_with(uint32_t crc, uint32_t value) {
#ifdef DOOR_TABLE
  static const uint32_t table[16] = {
      0x00000000u, 0x1DB71064u, 0x3B6E20C8u, 0x26D930ACu, 0x76DC4190u, 0x6B6B51F4u, 0x4DB26158u, 0x5005713Cu,
      0xEDB88320u, 0xF00F9344u, 0xD6D6A3E8u, 0xCB61B38Cu, 0x9B64C2B0u, 0x86D3D2D4u, 0xA00AE278u, 0xBDBDF21Cu,
  };
  crc ^= value;
  crc = crc >> 4 ^ table[crc & 15];
  return crc >> 4 ^ table[crc & 15];
#else
  uint32_t bits = 8;
  crc ^= value;
  do {
    uint32_t low = crc & 1;
    crc >>= 1;
    if (low)
      crc ^= 0xEDB88320u;
  } while (--bits);
  return crc;
#endif
}

/* --- frames */

APART void begin(void) {
  door.at = door.place->message;
  door.end = door.full == DOOR_FRAMES ? door.at : door.at + PLACE_BYTES;
  door.crc = 0xFFFFFFFFu;
  door.left = 1; /* the next one is a code */
  door.zero_due = false;
}

/* Forget all that has come. */
APART void empty(void) {
  door.place = door.turn = door.places;
  door.full = 0;
  door.deaf = false;
  begin();
}

static struct place *after(struct place *place) {
  return ++place == door.places + DOOR_FRAMES ? door.places : place;
}

APART void poll(void) {
  uint32_t value;
  if (!port_heard())
    return;
  value = port_take();
  if (door.deaf)
    return;
  door.left--;
  if (!value) {
    if (!door.left && door.crc == RESIDUE) {
      door.place->length = (uint32_t)(door.at - door.place->message);
      door.full++;
      door.place = after(door.place);
    }
    begin();
    return;
  }
  if (!door.left) {
    bool due = door.zero_due;
    door.left = (uint8_t)value;
    door.zero_due = value != 0xFF;
    if (!due)
      return;
    value = 0;
  }
  if (door.at == door.end)
    return; /* then the CRC does not fit */
  *door.at++ = (uint8_t)value;
  door.crc = crc_with(door.crc, value);
}

APART void give(uint32_t value) {
  while (!port_room())
    poll();
  port_give(value);
}

/* Send what stands there, and its CRC, which is put behind it. */
APART void answer(uint8_t *from, uint8_t *end) {
  uint32_t crc = 0xFFFFFFFFu, run = 1;
  uint8_t *at = from;
  while (at != end)
    crc = crc_with(crc, *at++);
  at = end = put_word(end, ~crc);
  do { /* each zero becomes how far the next one is */
    if (!*--at) {
      *at = (uint8_t)run;
      run = 0;
    }
    run++;
  } while (at != from);
  give(run);
  while (from != end)
    give(*from++);
  give(0);
}

/* --- flash */

APART uint32_t sum_of(uint32_t address, uint32_t size) {
  uint32_t crc = 0xFFFFFFFFu, end = address + size;
  while (address != end)
    crc = crc_with(crc, port_flash(address++));
#ifdef DOOR_SUMMED
  DOOR_SUMMED(size);
#endif
  return ~crc;
}

/* Whether the seal is right: the application's length, and its CRC-32. */
APART void look_whether_whole(void) {
  uint32_t length = port_word(DOOR_END);
  door.is_whole = false;
  if (length - 1 >= DOOR_END - DOOR_BEGIN)
    return;
  door.sum = sum_of(DOOR_BEGIN, length);
  door.is_whole = door.sum == port_word(DOOR_END + 4);
}

/* Break the seal, before anything else changes. */
static void unseal(void) {
  if (door.is_whole)
    port_erase(DOOR_END);
  door.is_whole = false;
}

/* Write a unit, unless it is there already. Returns a status. */
APART uint32_t put(uint32_t address, const uint8_t *data) {
  uint32_t turn = 0, at;
  for (;; turn++) {
    for (at = 0; port_flash(address + at) == data[at];) {
      if (!(at & 7))
        poll();
      if (++at == DOOR_UNIT)
        return DONE;
    }
    if (turn)
      return KEPT;
    port_write(address, data);
  }
}

/* --- questions */

/* Whole units of what may change, to be changed: written from `data`, or erased if there is none. Returns a status. */
APART uint32_t change(uint32_t address, uint32_t size, const uint8_t *data) {
  uint32_t status = DONE, unit = data ? DOOR_UNIT : DOOR_ERASE;
  if ((address | size) & (unit - 1) || address - DOOR_BEGIN >= DOOR_END - DOOR_BEGIN || size > DOOR_END - address)
    return REFUSED;
  unseal();
  for (; size; size -= unit, address += unit)
    if (data) {
      status |= put(address, data);
      data += DOOR_UNIT;
    } else {
      port_erase(address);
    }
  return status;
}

/* One question, answered where it stands. While it is no write, nothing else is heard. */
APART void handle(uint8_t *question, uint32_t size) {
  uint32_t first = word_of(question + 2), second = word_of(question + HEAD), status = DONE, type = question[0];
  uint32_t each = second & 0xFFFF, count = second >> 16;
  uint8_t *to = question + ANSWER;

  if (type == WRITE) {
    size -= HEAD + CRC;
    status = size > DOOR_DATA ? REFUSED : change(first, size, question + HEAD);
  } else {
    door.deaf = true;
    if (type == READ) {
      each = 1;
      count = second;
    }
    if (size != QUESTION)
      type = 0;
    if (type == HELLO) {
      *to++ = door.is_whole ? 1 : 2;
      for (count = 0; count < DOOR_FACTS; count++)
        *to++ = port_fact(count);
    } else if (type == DIGEST || type == READ) {
      if (count > (type == READ ? ANSWER_BYTES : ANSWER_BYTES / 4) || first > DOOR_TOP || each * count > DOOR_TOP - first)
        status = REFUSED;
      else
        for (; count; count--, first += each)
          if (type == READ)
            *to++ = port_flash(first);
          else
            to = put_word(to, sum_of(first, each));
    } else if (type == ERASE) {
      status = change(first, second, 0);
    } else if (type == SEAL) {
      /* as it was asked for; what else is in its unit does not count */
      port_erase(DOOR_END);
      for (each = 0; each < 8; each += DOOR_UNIT)
        status |= put(DOOR_END + each, question + 2 + each);
      look_whether_whole();
      to = put_word(to, door.sum);
      status |= door.is_whole ? DONE : REFUSED;
    } else if (type == START) {
      status = door.is_whole ? DONE : REFUSED;
    } else if (type != RATE) {
      status = REFUSED;
    }
  }
  question[0] |= 0x80;
  question[2] = (uint8_t)status;
  answer(question, to);
  door.patience = TALK;
  door.trial = false;
  if (type == WRITE) {
    door.turn = after(door.turn);
    door.full--;
    return;
  }
  if (!status && (type == START || type == RATE)) {
    port_sent();
    if (type == START)
      port_start();
    port_rate(first);
    door.patience = TRIAL;
    door.trial = true;
  }
  empty();
}

/* From reset on. `wait`: ticks of 10 ms until the application is started; 0: without end. */
static void doorstep(uint32_t wait) {
  door.patience = wait;
  look_whether_whole();
  for (;;) {
    port_open(); /* at its own rate */
    door.trial = false;
    empty();
    for (;;) {
      poll();
      if (door.full)
        handle(door.turn->message, door.turn->length);
      if (!port_tick() || !door.patience || --door.patience)
        continue;
      if (!door.trial && door.is_whole)
        port_start();
      door.patience = TALK;
      break;
    }
  }
}
