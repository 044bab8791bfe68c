; Doorstep for classic AVR with a boot section: docs/doorstep.md, in assembler, because a C compiler makes of it twice what
; the boot section of an ATmega328P holds. Registers and bits: the makers' datasheets of ATmega48A/88A/168A/328P,
; 164A/324A/644A/1284P and 640/1280/2560; those that are used here stand at the same places in all of them.
;
; Built for a chip by symbols (build.toml): FLASH_BYTES, PAGE, RAM, DATA (the most data of a write), RX_PINS and RX_BIT,
; PART, ROOM (the boot section). FAR: more than 64 KiB. TABLE: there is RAM enough for a table of CRCs.

#define FRAMES     3
#define MESSAGE    (6 + DATA + 4)
#define STRIDE     (2 + MESSAGE)        /* before each message stands where it ends */
#define LAST       (RAM + 2 * STRIDE)
#define PLACES_END (RAM + FRAMES * STRIDE)
#define LOADER     (FLASH_BYTES - ROOM)
#define SEAL       (LOADER - PAGE)
#define TRIAL_TIME 16                   /* ticks, of 32 ms or more */
#define TALK_TIME  255
#define FACTS      38
#define ANSWER     240                  /* the most data of an answer: its code byte says how far the first zero is */

#define UCSR0A 0xC0
#define UCSR0B 0xC1
#define UBRR0L 0xC4
#define UBRR0H 0xC5
#define UDR0   0xC6
#define TCCR1B 0x81
#define OCR1AL 0x88
#define WDTCSR 0x60
#define MCUSR  0x34                     /* from here on I/O addresses */
#define SPMCSR 0x37
#define RAMPZ  0x3B
#define TIFR1  0x16
#define GPIOR0 0x1E

; Kept throughout:
#define crc0   r2                       /* of the message that comes */
#define crc1   r3
#define crc2   r4
#define crc3   r5
#define left   r6                       /* of its run */
#define code   r7                       /* that it began with */
#define endl   r8                       /* of its place */
#define endh   r9
#define full   r10                      /* places with a whole message */
#define status r11
#define turnl  r12                      /* the oldest of them */
#define wait   r14                      /* ticks of patience; 0: without end */
#define zero   r15
#define placel r22                      /* the place that is filled */
#define placeh r23
#define fl     r25
#define DEAF   1                        /* bits of fl */
#define TRIAL  2                        /* of a rate */
#define WHOLE  3                        /* the application is */
; X goes through the place that is filled, or, when nothing is heard, through the answer. `poll` changes r16 and r17.

#ifdef FAR
#define load elpm
.macro point to                         ; Z to a place in the loader, or to its seal
        ldi     ZL, lo8(\to)
        ldi     ZH, hi8(\to)
        ldi     r16, hh8(\to)
        out     RAMPZ, r16
.endm
#else
#define load lpm
.macro point to
        ldi     ZL, lo8(\to)
        ldi     ZH, hi8(\to)
.endm
#endif

        .section .text
        .global _start
_start: clr     zero
        in      r16, MCUSR
        out     GPIOR0, r16             ; for the application
        out     MCUSR, zero
        ldi     r16, 0x18
        sts     WDTCSR, r16
        sts     WDTCSR, zero
        lds     r24, RAM                ; the application's request: DO of DOOR
        lds     r17, RAM + 1
#ifndef TABLE                           /* which else is written over it */
        sts     RAM, zero
#endif
        subi    r24, 'D'
        subi    r17, 'O'
        or      r24, r17                ; 0 if there is one
        clr     fl
        rcall   table
        rcall   whole
        brne    open
        sbr     fl, 1 << WHOLE

open:   andi    fl, 1 << WHOLE
        point   line
        ldi     YL, OCR1AL
        clr     YH
        load    r16, Z+
        std     Y + UBRR0H - OCR1AL, r16
        load    r16, Z+
        std     Y + UBRR0L - OCR1AL, r16
        load    r16, Z+                 ; timer 1: what its clock is divided by
        sts     TCCR1B, r16
        ldi     r16, 0x02               ; double speed
        std     Y + UCSR0A - OCR1AL, r16
        ldi     r16, 0x18               ; receiver, transmitter
        std     Y + UCSR0B - OCR1AL, r16
        load    wait, Z+
        load    YL, Z+                  ; a pin that keeps the loader running
        load    r18, Z+
        std     Y + 2, r18              ; its pull-up
1:      dec     r16                     ; until it is up
        brne    1b
        ld      r16, Y
        std     Y + 2, zero
        com     r16
        and     r16, r18
        brne    for_ever
        tst     r24
        breq    3f
2:      sbic    RX_PINS, RX_BIT         ; a break
        rjmp    fresh
        sbiw    ZL, 1
        brne    2b
3:      rcall   talk
        rjmp    fresh
for_ever:
        clr     wait
fresh:  rcall   empty

main:   rcall   poll
        tst     full
        brne    handle
        sbis    TIFR1, 0
        rjmp    main
        sbi     TIFR1, 0
        tst     wait
        breq    main
        dec     wait
        brne    main
        cpi     fl, 1 << WHOLE          ; and no rate on trial
        brne    open

run:    rcall   flush
        sts     UCSR0A, zero
        sts     UCSR0B, zero
        sts     TCCR1B, zero
#ifdef FAR
        out     RAMPZ, zero
#endif
        jmp     0

; --- questions

write:  sub     r18, YL
        sbc     r19, YH
        subi    r18, 10                 ; the size of its data
        sbc     r19, zero
        rcall   first
        mov     r16, ZL
        or      r16, r18
        andi    r16, PAGE - 1
        ldd     r17, Y+5
        or      r16, r17
#ifdef FAR
        brne    1f
        mov     r16, ZH
        ldd     r17, Y+4
        add     r16, r19
        adc     r17, zero
        brcs    1f
        subi    r16, lo8((SEAL >> 8) + 1)
        sbci    r17, hi8((SEAL >> 8) + 1)
#else
        ldd     r17, Y+4
        or      r16, r17
        brne    1f
        movw    r16, ZL
        add     r16, r18
        adc     r17, r19
        brcs    1f
        subi    r16, lo8(SEAL + 1)
        sbci    r17, hi8(SEAL + 1)
#endif
        brcc    1f
#if PAGE == 128
        lsl     r18
        rol     r19
#else
        tst     r19
#endif
        breq    1f
        rcall   unseal
        rcall   first
        adiw    YL, 6
2:      rcall   put
        dec     r19                     ; pages
        brne    2b
        rjmp    3f
1:      inc     status
3:      movw    YL, turnl
        adiw    YL, 2
        movw    r20, YL
        subi    r20, lo8(0x10000 - (3))
        rcall   reply_to
        movw    r16, turnl
        rcall   after
        movw    turnl, r16
        dec     full
        rjmp    main

handle: movw    YL, turnl
        ld      r18, Y+                 ; where it ends
        ld      r19, Y+
        clr     status
        ld      r16, Y
        cpi     r16, 4
        breq    write
        sbr     fl, 1 << DEAF
        ldi     XL, lo8(LAST + 2)
        ldi     XH, hi8(LAST + 2)
        ldi     r17, 10
1:      ld      r16, Y+
        st      X+, r16
        dec     r17
        brne    1b
        sbiw    XL, 10
        movw    YL, XL
        rcall   table
        movw    XL, YL
        adiw    XL, 3                   ; the answer goes on here
        rcall   first
        ldd     r18, Y+6
        ldd     r19, Y+7
        ldd     r21, Y+8
        ld      r16, Y
        dec     r16
        breq    hello
        dec     r16
        breq    digest
        subi    r16, 3
        breq    read
        dec     r16
        breq    rate
        dec     r16
        breq    begin_application
        dec     r16
        breq    seal
place:  inc     status
done:   rcall   reply
        rjmp    fresh

hello:  ldi     r16, 2
        sbrc    fl, WHOLE
        dec     r16
        st      X+, r16
        point   facts
        ldi     r18, FACTS
        clr     r19
read:   cpi     r18, ANSWER + 1
        cpc     r19, zero
        brcc    place
1:      subi    r18, 1
        brcs    done
        load    r16, Z+
        st      X+, r16
        rjmp    1b

digest: cpi     r21, ANSWER / 4 + 1
        brcc    place
        movw    r0, r18
1:      subi    r21, 1
        brcs    done
#ifdef FAR
        clr     r20
#endif
        movw    r18, r0
        rcall   sum
        rcall   put_crc
        rjmp    1b

rate:   sbiw    ZL, 1
        movw    endl, ZL
        rcall   reply
        rcall   flush
        sts     UBRR0H, endh
        sts     UBRR0L, endl
        ldi     r16, TRIAL_TIME
        mov     wait, r16
        sbr     fl, 1 << TRIAL
        rjmp    fresh

begin_application:
        sbrs    fl, WHOLE
        rjmp    place
        rcall   reply
        rjmp    run

seal:   adiw    YL, 2                   ; as it was asked for, and whatever stands behind
        point   SEAL
        rcall   put
        cbr     fl, 1 << WHOLE
        rcall   whole
        brne    1f
        sbr     fl, 1 << WHOLE
        rjmp    2f
1:      inc     status
2:      rcall   put_crc
        rjmp    done

; --- answers

reply:  ldi     YL, lo8(LAST + 2)       ; where every question stands but a write
        ldi     YH, hi8(LAST + 2)
        movw    r20, XL
reply_to:                               ; Y to r20:r21, and the CRC, which is put behind
        std     Y+2, status
        ld      r16, Y
        ori     r16, 0x80
        st      Y, r16
        movw    r0, crc0                ; the next message may be coming
        movw    r18, crc2
        rcall   ones
        movw    ZL, YL
1:      ld      r16, Z+
        rcall   crc
        cp      ZL, r20
        cpc     ZH, r21
        brne    1b
        rcall   complement
        st      Z+, crc0
        st      Z+, crc1
        st      Z+, crc2
        st      Z+, crc3
        movw    r20, ZL
        movw    crc0, r0
        movw    crc2, r18
        ldi     r18, 1                  ; each zero becomes how far the next one is
2:      ld      r16, -Z
        tst     r16
        brne    3f
        st      Z, r18
        clr     r18
3:      inc     r18
        cp      ZL, YL
        cpc     ZH, YH
        brne    2b
4:      rcall   give
        cp      YL, r20
        cpc     YH, r21
        ld      r18, Y+
        brne    4b
        clr     r18
        rcall   give
talk:   ldi     r16, TALK_TIME
        mov     wait, r16
        cbr     fl, 1 << TRIAL
        ret

give:   rcall   poll
        lds     r16, UCSR0A
        sbrs    r16, 5
        rjmp    give
        sts     UDR0, r18
        ret

flush:  clr     ZL                      ; until what was sent has left: 16 ms at 16 MHz
        clr     ZH
1:      sbiw    ZL, 1
        brne    1b
        ret

put_crc:
        st      X+, crc0
        st      X+, crc1
        st      X+, crc2
        st      X+, crc3
        ret

; --- what comes

poll:   lds     r16, UCSR0A
        sbrs    r16, 7
        ret
        lds     r16, UDR0
        sbrc    fl, DEAF
        ret
        tst     r16
        breq    3f
        dec     left
        brne    keep
        mov     left, r16
        mov     r17, code
        mov     code, r16
        clr     r16
        cpi     r17, 0xFF               ; after a full run no zero is due
        breq    9f
keep:   cp      XL, endl
        cpc     XH, endh
        breq    9f
        st      X+, r16
crc:    eor     crc0, r16
        ldi     r17, 8
1:      lsr     crc3
        ror     crc2
        ror     crc1
        ror     crc0
        brcc    2f
        ldi     r16, 0x20               ; EDB88320
        eor     crc0, r16
        ldi     r16, 0x83
        eor     crc1, r16
        ldi     r16, 0xB8
        eor     crc2, r16
        ldi     r16, 0xED
        eor     crc3, r16
2:      dec     r17
        brne    1b
9:      ret
3:      dec     left
        ldi     r16, 0xE3               ; a message with its CRC behind it has DEBB20E3
        cp      crc0, r16
        ldi     r16, 0x20
        cpc     crc1, r16
        ldi     r16, 0xBB
        cpc     crc2, r16
        ldi     r16, 0xDE
        cpc     crc3, r16
        cpc     left, zero
        brne    begin
        movw    r16, XL
        movw    XL, placel
        st      X+, r16
        st      X, r17
        inc     full
        movw    r16, placel
        rcall   after
        movw    placel, r16
begin:  movw    XL, placel
        adiw    XL, 2
        movw    endl, XL
        ldi     r16, FRAMES
        cp      full, r16
        breq    4f
        ldi     r16, lo8(MESSAGE)
        add     endl, r16
        ldi     r16, hi8(MESSAGE)
        adc     endh, r16
4:      clr     left
        inc     left                    ; the next one is a code
        clr     code
        dec     code
ones:   ldi     r16, 0xFF
        mov     crc0, r16
        mov     crc1, r16
        movw    crc2, crc0
        ret

after:  subi    r16, lo8(0x10000 - (STRIDE))  ; the next place
        sbci    r17, hi8(0x10000 - (STRIDE))
        cpi     r16, lo8(PLACES_END)
        brne    1f
        ldi     r16, lo8(RAM)
        ldi     r17, hi8(RAM)
1:      ret

empty:  clr     full
        ldi     placel, lo8(RAM)
        ldi     placeh, hi8(RAM)
        movw    turnl, placel
        cbr     fl, 1 << DEAF
        rjmp    begin

; --- flash

unseal: sbrs    fl, WHOLE
        ret
        cbr     fl, 1 << WHOLE
        point   SEAL
wipe:   ldi     r18, 3                  ; erase a page
        rcall   spm
readable:
        ldi     r18, 0x11
spm:    rcall   poll
        in      r16, SPMCSR
        sbrc    r16, 0
        rjmp    spm
        out     SPMCSR, r18
        spm
        ret

put:                                    ; a page from Y to Z; both go on behind it
#ifdef FAR
        in      r20, RAMPZ
#endif
        rcall   wipe
        ldi     r24, PAGE / 2
1:      ld      r0, Y+
        ld      r1, Y+
        ldi     r18, 1
        rcall   spm
        adiw    ZL, 2
        dec     r24
        brne    1b
        rcall   back
        ldi     r18, 5
        rcall   spm
        rcall   readable
        rcall   same
        breq    3f
        ldi     r16, 2
        mov     status, r16
3:      ret

same:   clr     r18
        ldi     r24, lo8(PAGE)
1:      rcall   poll
        load    r16, Z+
        ld      r17, Y+
        eor     r16, r17
        or      r18, r16
        dec     r24
        brne    1b
        tst     r18
        ret

back:   subi    YL, lo8(PAGE)
        sbci    YH, hi8(PAGE)
        subi    ZL, lo8(PAGE)
        sbci    ZH, hi8(PAGE)
#ifdef FAR
        out     RAMPZ, r20
#endif
        ret

; --- sums

table:
#ifdef TABLE
        clr     XL                      ; four pages of RAM, with a byte of each entry in each
1:      clr     crc0
        clr     crc1
        movw    crc2, crc0
        mov     r16, XL
        rcall   crc
        ldi     XH, hi8(RAM)
        st      X, crc0
        inc     XH
        st      X, crc1
        inc     XH
        st      X, crc2
        inc     XH
        st      X, crc3
        inc     XL
        brne    1b
#endif
        ret

whole:  point   SEAL                    ; Z: whether the application is
        load    r18, Z+
        load    r19, Z+
        load    r20, Z+
        load    r16, Z+
#ifdef FAR
        tst     r16
        brne    9f
        mov     r17, r18
        mov     r16, r19
        mov     r0, r20
        subi    r17, 1
        sbci    r16, 0
        sbc     r0, zero
        subi    r16, lo8(SEAL >> 8)
        ldi     r16, hh8(SEAL)
        sbc     r0, r16
        brcc    8f
        out     RAMPZ, zero
#else
        or      r16, r20
        brne    9f
        movw    r16, r18
        subi    r16, 1
        sbci    r17, 0
        subi    r16, lo8(SEAL)
        sbci    r17, hi8(SEAL)
        brcc    8f
#endif
        clr     ZL
        clr     ZH
        rcall   sum
        point   SEAL + 4
        load    r16, Z+
        cp      r16, crc0
        load    r16, Z+
        cpc     r16, crc1
        load    r16, Z+
        cpc     r16, crc2
        load    r16, Z+
        cpc     r16, crc3
9:      ret
8:      clz
        ret

sum:    rcall   ones                    ; of r18 to r20 bytes from Z on
1:      subi    r18, 1
        sbci    r19, 0
#ifdef FAR
        sbci    r20, 0
#endif
        brcs    2f
        load    r16, Z+
#ifdef TABLE
        eor     r16, crc0
        mov     YL, r16
        ldi     YH, hi8(RAM)
        ld      crc0, Y
        eor     crc0, crc1
        inc     YH
        ld      crc1, Y
        eor     crc1, crc2
        inc     YH
        ld      crc2, Y
        eor     crc2, crc3
        inc     YH
        ld      crc3, Y
#else
        rcall   crc
#endif
        rjmp    1b
2:
complement:
        com     crc0
        com     crc1
        com     crc2
        com     crc3
        ret

first:  ldd     ZL, Y+2                 ; the address in it
        ldd     ZH, Y+3
#ifdef FAR
        ldd     r16, Y+4
        out     RAMPZ, r16
#endif
        ret

; --- what `greenstep loader make` changes

        .section .facts, "ax"
facts:  .byte   1, 1, 15, FRAMES        ; version, family; erases itself, reads, hears meanwhile
        .long   PART
        .byte   0, 0                    ; no other origin, no number of its own
        .word   0, SEAL / PAGE, FLASH_BYTES / PAGE
        .word   PAGE, PAGE, DATA, ANSWER
        .word   16000                   ; kHz
        .long   115200, 2000000
        .word   4096, 1500
line:   .byte   0, 16                   ; UBRR0, high byte first
        .byte   2                       ; timer 1: clock / 8
        .byte   46                      ; ticks
        .byte   0, 0                    ; a pin's input register, its bit
