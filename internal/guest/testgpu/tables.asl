// Firmware tables for the emulated machine of the tests: a power meter, a battery, a fan and a thermal zone, which the
// kernel's own drivers then show. The power and the temperature rise at each reading, so that a change can be seen.
DefinitionBlock ("", "SSDT", 2, "VINE", "SENSORS", 1)
{
    Scope (\_SB)
    {
        Device (PMTR)
        {
            Name (_HID, "ACPI000D")
            Name (PWR, 150000)          // milliwatts
            Method (_PMC)
            {
                Return (Package () { 0x1, 0, 0, 100000, 1000, 1000, 0, 0, 0, 0, 0, "board", "S1", "host" })
            }
            Method (_PMM) { PWR += 1000  Return (PWR) }
            Method (_PMD) { Return (Package () {}) }
            Method (_GAI) { Return (1000) }
            Method (_PAI, 1) { Return (0) }
        }
        Device (BAT0)
        {
            Name (_HID, EisaId ("PNP0C0A"))
            Name (_UID, 1)
            Method (_STA) { Return (0x1F) }
            Method (_BIF)
            {
                Return (Package () { 0, 50000, 48000, 1, 12000, 5000, 2000, 100, 100, "UPS", "1", "LION", "VINE" })
            }
            Method (_BST) { Return (Package () { 1, 9000, 24000, 11900 }) } // discharging at 9 W, 24 Wh left
            Method (_PCL) { Return (Package () { \_SB }) }
        }
        Device (FAN0)
        {
            Name (_HID, EisaId ("PNP0C0B"))
            Method (_FIF) { Return (Package () { 0, 0, 0, 0 }) }
            Method (_FPS)
            {
                Return (Package () { 0, Package () { 0, 0xFFFFFFFF, 0, 0, 0 },
                    Package () { 1, 0xFFFFFFFF, 2400, 100, 3000 } })
            }
            Method (_FSL, 1) {}
            Method (_FST) { Return (Package () { 0, 1, 2400 }) }
        }
    }
    Scope (\)
    {
        ThermalZone (TZ00)
        {
            Name (TMP, 3132)            // 40.0 °C in tenths of a kelvin
            Method (_TMP) { TMP += 10  Return (TMP) }
            Method (_CRT) { Return (3732) }
            Name (_TZP, 0)
        }
    }
}
