"""The practice world: simulated stores, suppliers, carriers and a mailbox, with a clock of their own."""
