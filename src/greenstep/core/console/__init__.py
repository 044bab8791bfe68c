"""What a console shows of a board's output: lines, rows of hexadecimal, texts that are waited for, and, read with the
program's ELF file, the function, file and line of an address."""
