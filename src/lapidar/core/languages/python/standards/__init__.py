"""One module for each file format of the Python packaging standards that Lapidar reads or writes."""
