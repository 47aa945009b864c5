"""Lets ``python -m artuline`` run the command line."""

from artuline.cli import main

main()
