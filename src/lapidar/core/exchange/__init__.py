"""Others' open forms of what a snapshot is: a bill of materials, a research object, licences."""
