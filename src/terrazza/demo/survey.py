"""Where things stand on the estate: levels, set-ups, boards, spheres, control; scene frame, metres."""

GROUND, LOW, MEDIUM, HIGH, BUILDING, OTHER, WATER_CODE = 2, 3, 4, 5, 6, 1, 9
LANE, LOWER, HOUSE, UPPER = -2.4, 0.2, 2.0, 4.8
# (name, x, y, floor level) of the eight set-ups; the instrument stands 1.62 m above the floor
STATIONS = [
    ("Lemon house west", -7.5, 10.8, HOUSE),
    ("Lemon house east", 6.5, 10.6, HOUSE),
    ("Store room", 17.6, 11.0, HOUSE),
    ("Press room", 21.9, 11.1, HOUSE),
    ("House terrace", -2.6, 1.9, HOUSE),
    ("Lower terrace", 1.6, -8.3, LOWER),
    ("Lane", 6.4, -12.6, LANE),
    ("Culvert", 7.3, -8.4, LANE),
]
HEIGHT = 1.62
BOARD_SIZE = 0.45
# checkerboards: name, centre, direction it faces (plan azimuth in degrees), all upright
BOARDS = [
    ("B1", (-10.2, 13.97, 3.6), -90),
    ("B2", (-0.6, 13.97, 3.3), -90),
    ("B3", (9.55, 13.47, 3.4), -90),
    ("B4", (19.57, 12.9, 3.5), 180),
    ("B5", (25.97, 12.4, 3.3), 180),
    ("B6", (-4.5, 8.18, 4.3), -90),
    ("B7", (4.6, -5.2, 1.5), -134),
    ("B8", (0.6, 3.4, 3.45), 205),
    ("B9", (4.9, -10.04, -0.9), -90),
    ("B10", (9.4, -10.04, -0.8), -90),
    ("B11", (2.6, -14.3, -0.95), 55),
]
SPHERES = [(-3.2, 12.2, 2.45), (10.6, 11.8, 2.45), (1.4, -6.0, 0.65), (10.2, -13.6, -1.95)]
# control: board name, role, height of the board's centre above the surveyed mark
CONTROL = [
    ("B1", "control", 0.0),
    ("B5", "control", 0.0),
    ("B8", "control", 0.0),
    ("B7", "check", 0.0),
    ("B10", "control", 0.0),
    ("B11", "control", 1.45),
]
