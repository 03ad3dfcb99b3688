"""Simulated instruments: stand-ins for the scanner and the camera that bring field data.

They trace rays through an invented scene and add the errors of real
instruments.  Nothing in the application imports them except the demo.
"""
