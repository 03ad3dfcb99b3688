"""Step 3, Georeference: targets, control, levelling; only bending to control moves a scan."""
