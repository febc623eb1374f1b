"""The outside. `protocols` says what a partner can do; one file per dialect; `kinds` lists them."""
