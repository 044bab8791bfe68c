/* What all Cortex-M ports share: registers, the vectors, and the two requests in the first words of RAM. */

#define REG(at) (*(volatile uint32_t *)(at))
#define REG16(at) (*(volatile uint16_t *)(at))
#define REG8(at) (*(volatile uint8_t *)(at))

#define AIRCR REG(0xE000ED0C)
#define AIRCR_RESET 0x05FA0004u
#define VTOR REG(0xE000ED08)
#define REQUEST REG(0x20000000)
#define REQUEST_LOADER 0x524F4F44u /* DOOR: the application asks for the loader */
#define REQUEST_START 0x54524154u  /* TART: the loader asks itself to start the application */

#define APART __attribute__((noinline)) static /* once, and not wherever it is used */


/* What `greenstep loader make` changes: the facts that are told, and behind them the ticks of 10 ms to wait, the line's
   setting, and the pins (255: none). */
extern const struct facts {
  uint8_t version, family, abilities, frames;
  uint16_t part[2];
  uint8_t origin, id_bytes;
  uint16_t begin, end, top, erase_unit, write_unit, data, answer, khz, baud[2], rate_base[2], rate_most, wait_ms;
  uint16_t wait;
  uint32_t line;
  uint8_t tx, rx, way, function;
  uint32_t usart, control;
} facts;
#define HALVES(value) {(uint16_t)(value), (uint16_t)((value) >> 16)}

static void start_at(uint32_t vectors) __attribute__((noreturn));
static void start_at(uint32_t vectors) {
  const uint32_t *table = (const uint32_t *)vectors;
#if DOOR_HAS_VTOR
  VTOR = vectors;
#endif
  __asm__ volatile("msr msp, %0\n\tbx %1" : : "r"(table[0]), "r"(table[1]));
  __builtin_unreachable();
}

static void reset_chip(uint32_t request) {
  REQUEST = request;
  AIRCR = AIRCR_RESET;
  for (;;)
    ;
}
