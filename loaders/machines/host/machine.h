/* A chip made of this computer: its time passes when the loader waits, and stands still until the program that runs it
   says how far it may go. What a power cut leaves is left here, too. */
#ifndef MACHINE_H
#define MACHINE_H
#include <stdbool.h>
#include <stdint.h>

extern uint8_t machine_flash[0x40000];
bool machine_heard(void);
uint8_t machine_take(void);
bool machine_room(void);
void machine_give(uint8_t value);
void machine_sent(void);
bool machine_tick(void);
void machine_rate(uint32_t baud);
void machine_start(void);
void machine_busy(uint32_t microseconds, void (*meanwhile)(void));
void machine_erase(uint32_t address, uint32_t size);
void machine_program(uint32_t address, const uint8_t *data, uint32_t size);
#endif
