"""What moves where: rules, pegs, and the time map they make."""
