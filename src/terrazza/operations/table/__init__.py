"""The table: measures, pins, boxes, kept views and how numbers are written."""
