"""The settings of each step, one file a panel."""
