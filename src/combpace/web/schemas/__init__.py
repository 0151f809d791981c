"""What comes in over the wire, checked at the door."""
