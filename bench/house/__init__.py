"""Houses of any size, as a business of some years would have them, and what every view and act costs in them."""
