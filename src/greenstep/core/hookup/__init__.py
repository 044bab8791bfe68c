"""How DTR and RTS reach reset and boot, and the timed moves that enter and leave a bootloader."""
