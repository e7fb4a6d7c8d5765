"""The sample project, and the story that the demo command tells with it."""
