"""The frame around every bench: title, route, pulse, keys, dialogs, help, commands."""
