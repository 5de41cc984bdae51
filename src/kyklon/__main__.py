"""python -m kyklon"""

from kyklon.cli import main

main()
