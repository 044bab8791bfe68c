/* Doorstep for Cortex-M: the vectors, and what happens at a reset. The loader is at the start of the flash, and so are its
   vectors; a core that cannot move them passes every exception on to the application's. */

#include "doorstep.c"

extern uint32_t stack_top[];
__attribute__((section(".facts"), used)) const struct facts facts_of_this = FACTS;

static void begin_anew(void) {
  uint32_t request = REQUEST, wait = facts.wait;
  REQUEST = 0;
  if (request == REQUEST_START)
    start_at(DOOR_BEGIN);
  port_begin();
  if (port_held_low(WAY_PIN, 1))
    wait = 0;
  else if (request == REQUEST_LOADER || port_held_low(RX_PIN, BREAK_TURNS))
    wait = TALK;
  doorstep(wait);
}

#if DOOR_IN_RAM
extern uint32_t ram_begin[], ram_end[], ram_image[];
__attribute__((section(".boot"), noreturn)) void reset(void) {
  volatile uint32_t *to = ram_begin;
  const volatile uint32_t *from = ram_image;
  while (to != ram_end)
    *to++ = *from++;
  begin_anew();
  __builtin_unreachable();
}
#else
__attribute__((section(".boot"), noreturn)) void reset(void) {
  begin_anew();
  __builtin_unreachable();
}
#endif

#if DOOR_HAS_VTOR
#define VECTORS 4
__attribute__((section(".boot"))) void passed_on(void) {
  for (;;)
    ;
}
#else
#define VECTORS 48
__attribute__((section(".boot"), naked)) void passed_on(void) {
  __asm__("mrs r0, ipsr\n\tlsls r0, r0, #2\n\tldr r1, =%c0\n\tldr r0, [r0, r1]\n\tbx r0\n\t.ltorg"
          :
          : "i"(DOOR_BEGIN));
}
#endif

__attribute__((section(".vectors"), used)) void (*const vectors[VECTORS])(void) = {
    (void (*)(void))stack_top, reset, [2 ... VECTORS - 1] = passed_on,
};
