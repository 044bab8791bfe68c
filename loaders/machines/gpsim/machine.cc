/* A PIC18F26K22 in gpsim, run by another program through two pipes; the orders and events are those of ../host/machine.c,
   and V for what the data sheet forbids (at this address).

   gpsim runs the instructions. Table reads and writes, EECON, the EUSART, timer 0 and RX's pin are here, from DS40001412: the CPU stands still for 2 ms while a page is erased or written, two characters wait, and a third stops the receiver. */

#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <cstring>

#include <gpsim/interface.h>
#include <gpsim/gpsim_interface.h>
#include <gpsim/sim_context.h>
#include <gpsim/16bit-processors.h>
#include <gpsim/gpsim_time.h>

extern int initialize_gpsim_core();

namespace {

const uint32_t kFlash = 0x10000, kHeld = 0x40000, kBegin = 0x800, kPage = 64, kStandsUs = 2000;
enum : unsigned {
  kPortB = 0xF81, kPortC = 0xF82, kPir1 = 0xF9E, kEecon1 = 0xFA6, kEecon2 = 0xFA7, kRcsta = 0xFAB, kTxsta = 0xFAC,
  kTxreg = 0xFAD, kRcreg = 0xFAE, kSpbrg = 0xFAF, kSpbrgh = 0xFB0, kRcon = 0xFD0, kT0con = 0xFD5, kIntcon = 0xFF2, kTablat = 0xFF5, kTblptrl = 0xFF6,
};

Processor *core;
_16bit_processor *pic;
uint8_t flash[kFlash], latches[kPage], plain[0x1000];
uint64_t began, extra; /* instruction cycles: at the reset, and in which the core stood still */
uint32_t fosc, cut_in, seed = 1, baud, unlocked;
uint8_t come[2];
int held;
bool overrun, running, has_waiting;
uint8_t waiting;
uint64_t tx_until, tick_from;
uint32_t idle; /* looks at the receiver in a row that found nothing */

void event(uint8_t kind, uint32_t value) {
  uint8_t out[5] = {kind, (uint8_t)value, (uint8_t)(value >> 8), (uint8_t)(value >> 16), (uint8_t)(value >> 24)};
  fwrite(out, 1, sizeof out, stdout);
}

uint32_t any() {
  seed = seed * 1664525u + 1013904223u;
  return seed >> 8;
}

uint64_t now() { return get_cycles().get() - began + extra; }
uint64_t cycles_of(uint64_t microseconds) { return microseconds * (fosc / 4000) / 1000; }

/* gpsim runs the loader only: it need not know the application. */
void to_program(uint32_t at) {
  if (at < kBegin)
    core->init_program_memory(at, flash[at] | flash[at + 1] << 8);
}

uint32_t divisor() { return 1u + (plain[kSpbrg] | plain[kSpbrgh] << 8); }

void shift() {
  if (!has_waiting || now() < tx_until)
    return;
  tx_until = (tx_until > now() ? tx_until : now()) + 10 * divisor();
  has_waiting = false;
  event('S', waiting);
}

void change() {
  uint32_t page = (pic->registers[kTblptrl]->get_value() | pic->registers[kTblptrl + 1]->get_value() << 8) & ~(kPage - 1);
  bool erases = plain[kEecon1] & 0x10, fails = cut_in && !--cut_in;
  if (unlocked != 2 || page < kBegin || (plain[kEecon1] & 0x84) != 0x84)
    event('V', page);
  unlocked = 0;
  event('F', page);
  for (uint32_t at = 0; at < kPage; at++) {
    uint8_t *cell = flash + page + at, becomes = erases ? 0xFF : *cell & latches[at];
    *cell ^= (uint8_t)((*cell ^ becomes) & (fails ? any() : 0xFF));
  }
  for (uint32_t at = 0; at < kPage; at += 2)
    to_program(page + at);
  if (!erases)
    memset(latches, 0xFF, kPage);
  extra += cycles_of(kStandsUs);
  if (fails) {
    event('X', page);
    running = false;
  }
}

uint64_t tick() { return plain[kT0con] & 8 ? 65536 : 65536ull << ((plain[kT0con] & 7) + 1); }
bool ticked() { return plain[kT0con] & 0x80 && now() - tick_from >= tick(); }

class Own : public Register {
public:
  Own(unsigned at) : Register(pic, "own"), at_(at) { setAddress(at); }
  unsigned int get() override { return get_value(); }
  void put(unsigned int value) override { put_value(value); }
  RegisterValue getRV() override { return RegisterValue(get_value(), 0); }
  unsigned int get_value() override {
    shift();
    switch (at_) {
    case kPortB: case kPortC: return 0xFF;
    case kPir1:
      idle = held ? 0 : idle + 1;
      return (plain[at_] & ~0x30) | (held ? 0x20 : 0) | (has_waiting ? 0 : 0x10);
    case kIntcon: return (plain[at_] & ~4) | (ticked() ? 4 : 0);
    case kRcsta: return (plain[at_] & ~2) | (overrun ? 2 : 0);
    case kTxsta: return (plain[at_] & ~2) | (!has_waiting && now() >= tx_until ? 2 : 0);
    case kRcreg: {
      uint8_t value = come[0];
      if (held)
        held--;
      come[0] = come[1];
      return value;
    }
    case kEecon1: return plain[at_] & ~2;
    default: return plain[at_];
    }
  }
  void put_value(unsigned int value) override {
    plain[at_] = (uint8_t)value;
    idle = 0;
    switch (at_) {
    case kIntcon:
      if (!(value & 4) && ticked())
        tick_from += tick();
      break;
    case kT0con:
      tick_from = now();
      break;
    case kRcsta:
      if (!(value & 0x10))
        overrun = false, held = 0;
      break;
    case kTxreg:
      shift();
      if (has_waiting)
        event('V', at_);
      waiting = (uint8_t)value;
      has_waiting = true;
      shift();
      break;
    case kEecon2:
      unlocked = value == 0x55 ? 1 : value == 0xAA && unlocked == 1 ? 2 : 0;
      break;
    case kEecon1:
      if (value & 2)
        change();
      break;
    }
  }

private:
  unsigned at_;
};

void look_at_rate() {
  uint32_t rate = fosc / (4 * divisor());
  if (plain[kRcsta] & 0x80 && rate != baud)
    event('B', baud = rate);
}

void reset(bool by_instruction) {
  core->reset(POR_RESET);
  memset(plain, 0, sizeof plain);
  idle = 0;
  memset(latches, 0xFF, sizeof latches);
  pic->registers[kRcon]->put_value(by_instruction ? 0x0F : 0x1F);
  held = 0;
  overrun = has_waiting = false;
  tx_until = 0;
  unlocked = 0;
  baud = 0;
  running = true;
}

/* Table reads and writes; the pointer moves by the two lowest bits. */
void table(uint16_t opcode) {
  Register **at = pic->registers + kTblptrl;
  uint32_t pointer = at[0]->get_value() | at[1]->get_value() << 8 | at[2]->get_value() << 16;
  if ((opcode & 3) == 3)
    pointer++;
  if (opcode & 4)
    latches[pointer & (kPage - 1)] = (uint8_t)pic->registers[kTablat]->get_value();
  else
    pic->registers[kTablat]->put_value(pointer < kFlash ? flash[pointer] : 0);
  if ((opcode & 3) == 1)
    pointer++;
  if ((opcode & 3) == 2)
    pointer--;
  for (int byte = 0; byte < 3; byte++)
    at[byte]->put_value(pointer >> 8 * byte & (byte == 2 ? 0x3F : 0xFF));
  pic->pc->put_value(pic->pc->get_value() + 2);
  extra += 2;
}

void pass(uint64_t until) {
  while (running && now() < until) {
    uint32_t pc = pic->pc->get_value();
    uint16_t opcode = flash[pc] | flash[pc + 1] << 8;
    if (pc >= kBegin) {
      event('G', pc);
      running = false;
    } else if (opcode >= 0x0008 && opcode <= 0x000F) {
      table(opcode);
    } else if (opcode == 0x00FF) {
      uint64_t passed = now();
      reset(true);
      began = get_cycles().get();
      extra = passed;
    } else {
      core->step(1, false);
      shift();
      look_at_rate();
      if (idle > 8) { /* it waits: until timer 0 comes round */
        uint64_t to = plain[kT0con] & 0x80 ? tick_from + tick() : until;
        if (has_waiting && tx_until < to)
          to = tx_until;
        if (to > until)
          to = until;
        if (to > now())
          extra += to - now();
        idle = 0;
      }
    }
  }
}

void whole_flash(bool in) {
  static uint8_t all[kHeld];
  if (in) {
    if (fread(all, 1, kHeld, stdin) != kHeld)
      exit(1);
    for (uint32_t at = 0; at < kFlash; at += 2)
      if (memcmp(flash + at, all + at, 2)) {
        memcpy(flash + at, all + at, 2);
        to_program(at);
      }
    return;
  }
  memset(all, 0xFF, kHeld);
  memcpy(all, flash, kFlash);
  if (fwrite(all, 1, kHeld, stdout) != kHeld)
    exit(1);
  fflush(stdout);
}

} // namespace

int main(int count, char **words) {
  uint8_t order[5];
  if (count != 2)
    return 2; /* its clock */
  fosc = (uint32_t)strtoul(words[1], 0, 0);
  initialize_gpsim_core();
  core = CSimulationContext::GetContext()->add_processor("p18f26k22", "cpu");
  pic = dynamic_cast<_16bit_processor *>(core);
  if (!pic)
    return 2;
  for (unsigned at : {kPortB, kPortC, kPir1, kEecon1, kEecon2, kRcsta, kTxsta, kTxreg, kRcreg, kSpbrg, kSpbrgh, kT0con, kIntcon})
    pic->registers[at] = new Own(at);
  for (uint32_t at = 0; at < kFlash; at += 2) {
    memset(flash + at, 0xFF, 2);
    to_program(at);
  }
  while (fread(order, 1, sizeof order, stdin) == sizeof order) {
    uint32_t value = order[1] | order[2] << 8 | order[3] << 16 | (uint32_t)order[4] << 24;
    switch (order[0]) {
    case 'R':
      reset(false);
      began = get_cycles().get();
      extra = 0;
      break;
    case 'C':
      if (!(plain[kRcsta] & 0x10) || overrun)
        break;
      if (held < 2)
        come[held++] = (uint8_t)value;
      else
        overrun = true;
      break;
    case 'P':
      cut_in = value;
      break;
    case 'A':
      pass(cycles_of(value));
      event('E', value);
      fflush(stdout);
      break;
    default:
      whole_flash(order[0] == 'L');
    }
  }
  return 0;
}
