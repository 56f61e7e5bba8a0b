# A real GPIO controller: the bus is played on its lines one by one, then by the kernel's own SPI and I2C on the same lines.
hw 0 links
hw 0 send handheld.hush --rig pins.toml --link gpiochip0
hw 0 record --link gpiochip0 --line A=6 --line B=7 --for 500ms -o /tmp/still.vcd
load spi-bitbang
load spi-gpio
hw 0 links
hw 0 send handheld.hush --rig pins.toml --link spi-0.0
hw 2 send handheld.hush --rig pins.toml --link gpiochip0
load i2c-algo-bit
load i2c-gpio
hw 0 links
# Lines that nobody drives are low in the emulator, where a board has resistors: SDA seems to be held, and everybody to answer.
hw 2 scan --link i2c-0 --rig i2c-pins.toml
hw 0 send tide.hush --rig i2c-pins.toml --link i2c-0
