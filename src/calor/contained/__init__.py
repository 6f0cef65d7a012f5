"""Programs that others wrote, or that work on what others wrote, run with less than the user's rights.

They have no network, see no files but the system's and those they are given, write into one folder of their own, have
limits on memory, time and size of files, and end with whoever began them. Which of it the machine grants is tried out
once (`protection`), and said. The kernel's own means are used through bwrap where it is installed, else through
Landlock and a filter of system calls.
"""
