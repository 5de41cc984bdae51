"""python -m kyklon"""

from kyklon.commands.main import main

main()
