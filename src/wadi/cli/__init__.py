"""The command line: arguments to values, calls to the core, results shown. Nothing below this floor prints."""
