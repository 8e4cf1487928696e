"""One open machine: document, link and ledger, and the running of trials; what tui and cli both use."""
