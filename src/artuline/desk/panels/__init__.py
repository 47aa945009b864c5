"""The details of each station; every module has a function that fills the panel."""
