"""The layers of an environment, a module each, with the same verbs: observe, place, judge."""
