#include <stdint.h>
volatile uint32_t port;
static inline uint32_t weighed(uint32_t raw)
{
    port = raw;
    return raw * 3;
}
__attribute__((noinline)) uint32_t lift(uint32_t raw)
{
    return weighed(raw) + 1;
}
int main(void)
{
    return (int)lift(port);
}
