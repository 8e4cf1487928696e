"""Line languages of boards, described in a file: patterns, framing, requests, readings, settings; both directions."""
