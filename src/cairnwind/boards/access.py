"""What of the machine a service has to be let near, for what a site has wired: groups, classes of devices, rules for udev.

Classes are called as in /proc/devices, as systemd.resource-control(5) has them for ``DeviceAllow=``.
"""

from __future__ import annotations

from typing import NamedTuple


class Access(NamedTuple):
    """One kind of device, and whoever may open it."""

    what: str
    group: str
    classes: tuple[str, ...] = ()
    """Of character devices; none: files of /sys."""
    rule: str = ""
    """How udev gives it to the group; empty: it does by itself."""

    @property
    def written(self) -> bool:
        """Whether files of /sys are written."""
        return not self.classes


def _node(match: str, group: str) -> str:
    return f'{match}, GROUP="{group}", MODE="0660"'


def _files(match: str, group: str) -> str:
    return f'{match}, RUN+="/bin/chgrp -R {group} /sys%p", RUN+="/bin/chmod -R g=u /sys%p"'


GPIO = Access(
    "lines of GPIO chips", "gpio", ("gpiochip",), _node('SUBSYSTEM=="gpio", KERNEL=="gpiochip*"', "gpio")
)
PWM = Access("channels of PWM chips", "gpio", (), _files('SUBSYSTEM=="pwm*"', "gpio"))
LEDS = Access("lamps of the LED class", "gpio", (), _files('SUBSYSTEM=="leds"', "gpio"))
TWO_WIRE = Access("two-wire buses", "i2c", ("i2c",), _node('KERNEL=="i2c-[0-9]*"', "i2c"))
SPI = Access("SPI devices", "spi", ("spi",), _node('SUBSYSTEM=="spidev"', "spi"))
SERIAL = ("ttyUSB", "ttyACM", "ttyAMA", "ttyS")
USB = SERIAL[:2]
INPUT = Access("input devices", "input", ("input",))


def serial(port: str) -> Access:
    """A serial port, by its path or by its adapter (``usb:SERIAL``): one that is plugged in later may come by another number."""
    known = [each for each in SERIAL if port.startswith(f"/dev/{each}")]
    return Access("serial ports", "dialout", tuple(known or USB))
