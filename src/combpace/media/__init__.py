"""Files <-> core values: decoding, encoding, peaks, MIDI, map files, names."""
