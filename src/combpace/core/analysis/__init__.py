"""Everything the audio says: of one take, of a bundle, of one tempo for all."""
