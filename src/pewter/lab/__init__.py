"""The simulated world: private CA, name server, web servers with faults, relays, and the demo scenario."""
