"""The demo pieces, from the made-up game Night Ferry to Quillhaven."""

TOUR_ON = "Harbour-master’s inkstand"  # the piece that newcomers are shown around on
