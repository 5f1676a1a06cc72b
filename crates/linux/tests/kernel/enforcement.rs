//! Rules go into the kernel whole, come back as they were, and touch nothing else.

