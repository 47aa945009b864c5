"""What BVH files call things, and what is common to reading and writing them.

The format has no standard document; this is the form that its first publication gave it (Meredith & Maddock 2001, Motion Capture File Formats
Explained): HIERARCHY with ROOT, JOINT, End Site, OFFSET and CHANNELS, then MOTION with Frames, Frame Time and a line for every frame.
"""

POSITIONS = ("Xposition", "Yposition", "Zposition")
ROTATIONS = ("Xrotation", "Yrotation", "Zrotation")
SUFFIX = ".bvh"
