; Doorstep for PIC18(L)F2xK22 and 4xK22: docs/doorstep.md. It is in the boot block, the first 2 KiB, with the reset vector;
; interrupts go on to the application's vectors, 800 farther. Registers and the write sequence: Microchip's data sheet of
; PIC18(L)F2X/4XK22 (DS40001412), chapters 6 (Flash program memory), 11 (Timer0) and 16 (EUSART).
;
; The CPU stands still while the flash is erased or written, so it has one place for a frame, and hears nothing meanwhile.

        errorlevel -1301, -302, -215
        include "p18f46k22.inc"
        radix   dec

BEGIN   equ     0x0800
UNIT    equ     64
LARGEST    equ     1024
ANSWER  equ     240
FACTS   equ     38
MSG     equ     0x100                   ; the place
MSG_END equ     MSG + 6 + LARGEST + 4
TABLE   equ     0x800                   ; of CRCs: four pages of RAM, with a byte of each entry in each
TRIAL_TIME equ  16                      ; ticks of 32 ms or more
TALK_TIME equ   255

; Access RAM; the application's request is in the first four bytes.
        cblock  0x10
        crc0, crc1, crc2, crc3          ; of the message that comes
        left, code                      ; of its run, and what that began with
        value, status, wait, number
        lenl, lenh
        endl, endh
        eachl, eachh
        froml, fromh
        runs, count
        flags
        markl, markh                    ; the loader's request to itself: start the application
        seal_l, seal_h
        endc
WHOLE   equ     0                       ; bits of flags
TRIAL   equ     1
MARK_L  equ     0x54
MARK_H  equ     0x41

; What is not set here are the chip's own configuration words.

        org     0
        goto    start
        org     0x08
        goto    BEGIN + 0x08
        org     0x18
        goto    BEGIN + 0x18

start:  btfsc   RCON, RI                ; a RESET instruction: is the application to be started?
        bra     cold
        movlw   MARK_L
        cpfseq  markl
        bra     cold
        movlw   MARK_H
        cpfseq  markh
        bra     cold
        clrf    markl
        bsf     RCON, RI
        goto    BEGIN

cold:   clrf    markl
        clrf    flags
        movlb   0x0F
        clrf    ANSELC, BANKED
        movlb   1
        call    table
        call    own                     ; its own settings
        tblrd*+
        movff   TABLAT, OSCCON
        tblrd*+
        movff   TABLAT, OSCTUNE
        tblrd*+
        movff   TABLAT, seal_l
        tblrd*+
        movff   TABLAT, seal_h
        call    whole

open:   bcf     flags, TRIAL
        call    own
        movlw   4
        addwf   TBLPTRL, F
        tblrd*+
        movff   TABLAT, SPBRG1
        tblrd*+
        movff   TABLAT, SPBRGH1
        movlw   0x08                    ; BRG16
        movwf   BAUDCON1
        movlw   0x24                    ; TXEN, BRGH
        movwf   TXSTA1
        movlw   0x90                    ; SPEN, CREN
        movwf   RCSTA1
        tblrd*+
        movff   TABLAT, T0CON
        tblrd*+
        movff   TABLAT, wait
        tblrd*+                         ; a pin that keeps it running: its PORT's low byte, its bit
        movff   TABLAT, FSR1L
        tblrd*+
        movf    TABLAT, W
        bz      ways
        movwf   value
        movlw   0x0F
        movwf   FSR1H
        movlw   0x48                    ; ANSELx is so far before PORTx
        subwf   FSR1L, F
        clrf    INDF1
        addwf   FSR1L, F
        movf    INDF1, W
        andwf   value, W
        bz      for_ever
ways:   movlw   'D'                     ; the application's request: DOOR
        cpfseq  0x00
        bra     brk
        movlw   'O'
        cpfseq  0x01
        bra     brk
        cpfseq  0x02
        bra     brk
        movlw   'R'
        cpfseq  0x03
        bra     brk
        bra     talks
brk:    clrf    lenl                    ; a break: RX low, for 65536 turns
        clrf    lenh
brk1:   btfsc   PORTC, 7
        bra     fresh
        nop
        nop
        decfsz  lenl, F
        bra     brk1
        decfsz  lenh, F
        bra     brk1
talks:  clrf    0x00
        call    talk
        bra     fresh
for_ever:
        clrf    wait

fresh:  bcf     RCSTA1, CREN            ; which clears an overrun
        bsf     RCSTA1, CREN
begin:  lfsr    0, MSG
        clrf    left
        incf    left, F                 ; the next one is a code
        setf    code
        call    ones

main:   clrwdt
        btfsc   PIR1, RC1IF
        bra     heard
        btfsc   RCSTA1, OERR
        bra     fresh
        btfss   INTCON, TMR0IF
        bra     main
        bcf     INTCON, TMR0IF
        movf    wait, F
        bz      main
        decfsz  wait, F
        bra     main
        btfss   flags, TRIAL
        btfss   flags, WHOLE
        bra     open

run:    movlw   MARK_L                  ; by a reset, so that it finds the chip as after one
        movwf   markl
        movlw   MARK_H
        movwf   markh
        reset

heard:  movff   RCREG1, value
        movf    value, F
        bz      ended
        decfsz  left, F
        bra     keep
        movff   value, left
        movf    code, W
        movff   value, code
        clrf    value
        xorlw   0xFF                    ; after a full run no zero is due
        bz      main
keep:   movlw   low MSG_END
        subwf   FSR0L, W
        movlw   high MSG_END
        subwfb  FSR0H, W
        bc      main                    ; too long: then the CRC does not fit
        movf    value, W
        movwf   POSTINC0
        call    crc
        bra     main

ended:  decf    left, F
        movlw   0xE3                    ; a message with its CRC behind it has DEBB20E3
        cpfseq  crc0
        bra     begin
        movlw   0x20
        cpfseq  crc1
        bra     begin
        movlw   0xBB
        cpfseq  crc2
        bra     begin
        movlw   0xDE
        cpfseq  crc3
        bra     begin
        tstfsz  left
        bra     begin

; --- questions

        clrf    status
        movf    FSR0L, W                ; the size of the message
        movwf   endl
        movlw   high MSG
        subwf   FSR0H, W
        movwf   endh
        movff   MSG + 2, TBLPTRL
        movff   MSG + 3, TBLPTRH
        movff   MSG + 4, TBLPTRU
        movff   MSG + 6, lenl
        movff   MSG + 7, lenh
        movff   MSG + 8, number
        lfsr    2, MSG + 3              ; where an answer goes on
        movf    MSG, W, BANKED
        xorlw   4
        bz      write
        tstfsz  endh
        bra     refuse
        movlw   14
        cpfseq  endl
        bra     refuse
        movf    MSG, W, BANKED
        xorlw   1
        bz      hello
        xorlw   1 ^ 2
        bz      digest
        xorlw   2 ^ 5
        bz      read
        xorlw   5 ^ 6
        bz      rate
        xorlw   6 ^ 7
        bz      begin_application
        xorlw   7 ^ 8
        bz      seal
refuse: incf    status, F
done:   call    reply
        bra     fresh

hello:  movlw   2
        btfsc   flags, WHOLE
        movlw   1
        movwf   POSTINC2
        movlw   low facts
        movwf   TBLPTRL
        movlw   high facts
        movwf   TBLPTRH
        clrf    TBLPTRU
        movlw   FACTS
        movwf   lenl
        clrf    lenh
read:   tstfsz  lenh
        bra     refuse
        movlw   ANSWER
        cpfsgt  lenl
        bra     read1
        bra     refuse
read1:  movf    lenl, F
        bz      done
        tblrd*+
        movff   TABLAT, POSTINC2
        decf    lenl, F
        bra     read1

digest: movlw   ANSWER / 4
        cpfsgt  number
        bra     digest1
        bra     refuse
digest1:
        movff   lenl, eachl
        movff   lenh, eachh
digest2:
        movf    number, F
        bz      done
        movff   eachl, lenl
        movff   eachh, lenh
        call    sum
        call    put_crc
        decf    number, F
        bra     digest2

rate:   movlw   1                       ; its divisor, less one
        subwf   TBLPTRL, F
        movlw   0
        subwfb  TBLPTRH, F
        movff   TBLPTRL, lenl
        movff   TBLPTRH, lenh
        call    reply
        call    flush
        movff   lenl, SPBRG1
        movff   lenh, SPBRGH1
        movlw   TRIAL_TIME
        movwf   wait
        bsf     flags, TRIAL
        bra     fresh

begin_application:
        btfss   flags, WHOLE
        bra     refuse
        call    reply
        call    flush
        bra     run

seal:   lfsr    0, MSG + 2              ; as it was asked for, and whatever stands behind
        call    to_seal
        call    put
        call    whole
        btfss   flags, WHOLE
        bsf     status, 0
        call    put_crc
        bra     done

write:  movlw   10                      ; how much data there is
        subwf   endl, F
        movlw   0
        subwfb  endh, F
        bnc     refuse
        movf    endl, W                 ; whole pages
        iorwf   TBLPTRL, W
        andlw   UNIT - 1
        iorwf   TBLPTRU, W
        iorwf   MSG + 5, W, BANKED
        bnz     refuse
        movlw   high BEGIN - 1
        cpfsgt  TBLPTRH
        bra     refuse
        movf    endl, W
        addwf   TBLPTRL, W
        movwf   froml
        movf    endh, W
        addwfc  TBLPTRH, W
        movwf   fromh
        bc      refuse
        movf    froml, W                ; as far as the seal
        subwf   seal_l, W
        movf    fromh, W
        subwfb  seal_h, W
        bnc     refuse
        bcf     STATUS, C
        rlcf    endl, F
        rlcf    endh, F
        rlcf    endl, F
        rlcf    endh, F                 ; pages
        btfss   flags, WHOLE
        bra     write1
        bcf     flags, WHOLE            ; the seal is broken first
        call    to_seal
        call    erase
        movff   MSG + 2, TBLPTRL
        movff   MSG + 3, TBLPTRH
write1: lfsr    0, MSG + 6
write2: movf    endh, F
        bnz     write3
        goto    done
write3: call    put
        decf    endh, F
        bra     write2

; --- answers

reply:  movff   status, MSG + 2         ; from MSG to FSR2, and the CRC, which is put behind
        bsf     MSG, 7, BANKED
        call    ones
        lfsr    0, MSG
reply1: movf    POSTINC0, W
        call    crc
        movf    FSR0L, W
        xorwf   FSR2L, W
        bnz     reply1
        movf    FSR0H, W
        xorwf   FSR2H, W
        bnz     reply1
        call    inverted
        call    put_crc
        movff   FSR2L, endl
        movff   FSR2H, endh
        movff   FSR2L, FSR0L
        movff   FSR2H, FSR0H
        movlw   1                       ; each zero becomes how far the next one is
        movwf   runs
reply2: movf    POSTDEC0, W
        movf    INDF0, W
        bnz     reply3
        movff   runs, INDF0
        clrf    runs
reply3: incf    runs, F
        movlw   high MSG
        xorwf   FSR0H, W
        iorwf   FSR0L, W                ; the place begins at a page of RAM
        bnz     reply2
        movf    runs, W
        call    give
reply4: movf    POSTINC0, W
        call    give
        movf    FSR0L, W
        xorwf   endl, W
        bnz     reply4
        movf    FSR0H, W
        xorwf   endh, W
        bnz     reply4
        movlw   0
        call    give
talk:   movlw   TALK_TIME
        movwf   wait
        bcf     flags, TRIAL
        return

give:   btfss   PIR1, TX1IF
        bra     give
        movwf   TXREG1
        nop                             ; TX1IF is right a cycle later
        return

flush:  btfss   TXSTA1, TRMT
        bra     flush
        return

put_crc:
        movff   crc0, POSTINC2
        movff   crc1, POSTINC2
        movff   crc2, POSTINC2
        movff   crc3, POSTINC2
        return

; --- flash

to_seal:
        movff   seal_l, TBLPTRL
        movff   seal_h, TBLPTRH
        clrf    TBLPTRU
        return

erase:  movlw   0x94                    ; EEPGD, FREE, WREN
changed:
        movwf   EECON1
        movlw   0x55
        movwf   EECON2
        movlw   0xAA
        movwf   EECON2
        bsf     EECON1, WR              ; the CPU stands still
        nop
        bcf     EECON1, WREN
        return

put:    movff   FSR0L, froml            ; a page from FSR0 to TBLPTR; both go on behind it
        movff   FSR0H, fromh
        call    erase
        movlw   UNIT
        movwf   count
        tblrd*-
put1:   movff   POSTINC0, TABLAT
        tblwt+*
        decfsz  count, F
        bra     put1
        movlw   0x84                    ; EEPGD, WREN
        call    changed
        movlw   256 - UNIT
        andwf   TBLPTRL, F
        movff   froml, FSR0L
        movff   fromh, FSR0H
        movlw   UNIT
        movwf   count
put2:   tblrd*+
        movf    TABLAT, W
        xorwf   POSTINC0, W
        bz      put3
        bsf     status, 1
put3:   decfsz  count, F
        bra     put2
        return

; --- sums

ones:   setf    crc0
        setf    crc1
        setf    crc2
        setf    crc3
        return

inverted:
        comf    crc0, F
        comf    crc1, F
        comf    crc2, F
        comf    crc3, F
        return

crc:    xorwf   crc0, W                 ; with W
        movwf   FSR1L
        movlw   high TABLE
        movwf   FSR1H
        movf    INDF1, W
        xorwf   crc1, W
        movwf   crc0
        incf    FSR1H, F
        movf    INDF1, W
        xorwf   crc2, W
        movwf   crc1
        incf    FSR1H, F
        movf    INDF1, W
        xorwf   crc3, W
        movwf   crc2
        incf    FSR1H, F
        movff   INDF1, crc3
        return

table:  clrf    count
table1: movff   count, crc0
        clrf    crc1
        clrf    crc2
        clrf    crc3
        movlw   8
        movwf   runs
table2: bcf     STATUS, C
        rrcf    crc3, F
        rrcf    crc2, F
        rrcf    crc1, F
        rrcf    crc0, F
        bnc     table3
        movlw   0x20                    ; EDB88320
        xorwf   crc0, F
        movlw   0x83
        xorwf   crc1, F
        movlw   0xB8
        xorwf   crc2, F
        movlw   0xED
        xorwf   crc3, F
table3: decfsz  runs, F
        bra     table2
        movff   count, FSR1L
        movlw   high TABLE
        movwf   FSR1H
        movff   crc0, INDF1
        incf    FSR1H, F
        movff   crc1, INDF1
        incf    FSR1H, F
        movff   crc2, INDF1
        incf    FSR1H, F
        movff   crc3, INDF1
        incfsz  count, F
        bra     table1
        return

whole:  bcf     flags, WHOLE            ; whether the application is
        call    to_seal
        tblrd*+
        movff   TABLAT, lenl
        tblrd*+
        movff   TABLAT, lenh
        tblrd*+
        movf    TABLAT, W
        tblrd*+
        iorwf   TABLAT, W
        bnz     whole1
        movf    lenl, W
        iorwf   lenh, W
        bz      whole1
        movlw   high BEGIN
        addwf   lenh, W
        bc      whole1
        movwf   fromh
        movf    lenl, W
        subwf   seal_l, W
        movf    fromh, W
        subwfb  seal_h, W
        bnc     whole1
        clrf    TBLPTRL
        movlw   high BEGIN
        movwf   TBLPTRH
        call    sum
        call    to_seal
        movlw   4
        addwf   TBLPTRL, F
        tblrd*+
        movf    TABLAT, W
        cpfseq  crc0
        return
        tblrd*+
        movf    TABLAT, W
        cpfseq  crc1
        return
        tblrd*+
        movf    TABLAT, W
        cpfseq  crc2
        return
        tblrd*+
        movf    TABLAT, W
        cpfseq  crc3
        return
        bsf     flags, WHOLE
whole1: return

sum:    call    ones                    ; of so many bytes from TBLPTR on
sum1:   clrwdt
        movf    lenl, W
        iorwf   lenh, W
        bz      inverted
        tblrd*+
        movf    TABLAT, W
        call    crc
        movf    lenl, F
        btfsc   STATUS, Z
        decf    lenh, F
        decf    lenl, F
        bra     sum1

own:    movlw   low (facts + FACTS)     ; the settings behind the facts
        movwf   TBLPTRL
        movlw   high (facts + FACTS)
        movwf   TBLPTRH
        clrf    TBLPTRU
        return

; --- what `greenstep loader make` changes

        org     BEGIN - FACTS - 10
facts:  db      1, 2, 3, 1              ; version, family; erases itself, reads; one place
        db      0x00, 0x54, 0, 0        ; DEVID
        db      0, 0                    ; no other origin, no number of its own
        db      low (BEGIN / UNIT), high (BEGIN / UNIT)
        db      0xFF, 0x03              ; 64 KiB, but for the last page
        db      0x00, 0x04
        db      UNIT, 0, UNIT, 0
        db      low LARGEST, high LARGEST, ANSWER, 0
        db      0x80, 0x3E              ; 16000 kHz
        db      0x00, 0xC2, 0x01, 0x00  ; 115200
        db      0x00, 0x09, 0x3D, 0x00  ; 4000000
        db      0x00, 0x80              ; 32768
        db      0xDC, 0x05              ; 1500 ms
        db      0x70, 0x00              ; OSCCON, OSCTUNE
        db      0xC0, 0xFF              ; the seal
        db      34, 0                   ; SPBRG
        db      0x80, 46                ; T0CON: clock / 2; ticks
        db      0, 0                    ; a pin's PORT, low byte, and its bit
        end
