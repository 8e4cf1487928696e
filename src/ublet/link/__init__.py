"""The wire: frames, transports, the client; nothing about calibration."""
