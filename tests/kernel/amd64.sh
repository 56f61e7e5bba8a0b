# i2c-stub takes SMBus calls alone: who answers can be asked, what wants plain I2C messages has to say so.
hw 0 links
hw 0 scan --link i2c-0 --rig front-desk.toml
hw 0 scan --link i2c-0
hw 2 send tide.hush --rig front-desk.toml --link i2c-0
hw 2 scan --link i2c-7
