"""One module for each command: ``configure(parser)`` and ``run(args, out)``."""
