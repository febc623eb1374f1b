"""What runs by itself: the schedule, sweeps, reading, delivery of the outbox, long jobs."""
