"""Every command by name. The list is data, so that help needs no command's own imports; a command's module is imported
when it is called."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Command:
    """name: as typed, a noun first where there are several. place: module below kyklon.commands, and function.
    what: the first line of its help."""

    name: str
    place: tuple[str, str]
    what: str


COMMANDS = (
    Command("demo", ("build", "demo"), "Make the demo build and open it."),
    Command("start", ("build", "start"), "Show the first page: a new build from wishes, a demo, or one begun before."),
    Command("new", ("build", "new"), "Start a new build in an empty folder."),
    Command("open", ("build", "open_build"), "Open a build in the window."),
    Command("check", ("build", "check"), "List all findings of a build."),
    Command("remedy", ("build", "remedy"), "Apply the remedy of a finding to the build."),
    Command("fields", ("build", "fields"), "List all settings of a build with their values."),
    Command("set", ("build", "set_field"), "Change one setting of a build."),
    Command("plan show", ("plan", "show"), "List a build's parts, its cables and what is not connected."),
    Command("plan use", ("plan", "use"), "Use a part in a build: it is connected, and what follows from it is set."),
    Command(
        "plan connect",
        ("plan", "connect"),
        "Connect two sockets with a cable; what was plugged into either is pulled out first.",
    ),
    Command("plan disconnect", ("plan", "disconnect"), "Pull a cable out."),
    Command("way", ("build", "way"), "List the steps to the first game and how long they take."),
    Command("issue", ("build", "issue"), "Write every issued file of a build into a folder."),
    Command("source inspect", ("source", "inspect"), "Describe an image file without unpacking it to disk."),
    Command("source shelf", ("source", "shelf"), "List the images on the source shelf."),
    Command("source keep", ("source", "keep"), "Add an image to the source shelf."),
    Command("source forget", ("source", "forget"), "Remove an image from the source shelf; the file stays."),
    Command("drives", ("drives", "drives"), "List the drives and what the interlock says about each."),
    Command("interlock", ("drives", "interlock"), "Ask the interlock about writing an image to a drive."),
    Command("write", ("drives", "write"), "Write an image to a drive, read it back and compare."),
    Command("restore", ("drives", "restore"), "Write a backup to a card, read it back and compare."),
    Command("prove", ("card", "prove"), "Check that a card has its stated capacity and keeps what is written to it."),
    Command("backup", ("card", "backup"), "Save a card as a compressed image; unused blocks are left out."),
    Command("compare", ("card", "compare_two"), "Compare two cards or images."),
    Command(
        "remember",
        ("card", "remember"),
        "Remember a card that works as it is now, to see later what somebody changed on it.",
    ),
    Command(
        "changed",
        ("card", "changed"),
        "Show what somebody changed on a card since it was remembered, line by line; exit 1 when something did.",
    ),
    Command("prepare", ("card", "prepare"), "Format a card or a stick and clear everything old on it."),
    Command("size", ("size", "size"), "Show which card to buy."),
    Command("baremetal plan", ("baremetal", "plan"), "List what a card made from an unpacked set will hold."),
    Command("baremetal write", ("baremetal", "write"), "Make a plain FAT card from an unpacked set."),
    Command("multiboot check", ("multiboot", "check"), "Check bundles against their manifests and a target."),
    Command(
        "multiboot tried",
        ("multiboot", "tried"),
        "List what was seen of each system on the machine, or add to it; exit 1 while one asks for attention.",
    ),
    Command("multiboot lay-out", ("multiboot", "lay_out"), "Copy checked bundles to a stick, and read them back."),
    Command("boot read", ("boot", "read"), "Read the boot files on a card, line by line."),
    Command("boot issue", ("boot", "issue"), "Write the build's boot files into a folder."),
    Command("boot diff", ("boot", "diff"), "Show how the build's boot files differ from those on a card."),
    Command("apply", ("boot", "apply"), "Copy the build's boot files to a card."),
    Command(
        "power",
        ("assembly", "power"),
        "Show the voltage drop from the source to every load; exit 1 when it has a stop.",
    ),
    Command(
        "heat",
        ("assembly", "warmth"),
        "Show the chip's temperature, cooling options and the fastest clock; exit 1 when it throttles.",
    ),
    Command(
        "space",
        ("space", "space"),
        "Show the parts in the case, what collides and what makes room; exit 1 when something collides.",
    ),
    Command(
        "wires",
        ("assembly", "wires"),
        "Show the wires contact by contact with a continuity test; exit 1 when contacts must not meet.",
    ),
    Command(
        "template",
        ("assembly", "template"),
        "Write drill and cut templates at 1:1: SVG, SVG in A4 pages with a ruler, DXF; and the bits for each.",
    ),
    Command(
        "order",
        ("assembly", "sequence"),
        "Show the assembly order: what must come first, why, and with which screws.",
    ),
    Command(
        "switch",
        ("assembly", "switch"),
        "Show the shutdown second by second: button, system, power, LED; exit 1 when the card is at risk.",
    ),
    Command(
        "machine find",
        ("machine", "find"),
        "Find the machine in this network by its name or its key; exit 1 when it does not answer.",
    ),
    Command(
        "machine look",
        ("machine", "look"),
        "Show the running machine's status and how its boot files differ; exit 1 when its card is failing.",
    ),
    Command(
        "machine put",
        ("machine", "put"),
        "Copy this build's boot files to the running machine; the old ones are kept beside them.",
    ),
    Command("machine undo", ("machine", "undo"), "Undo the last change on the running machine."),
    Command(
        "machine settings",
        ("machine", "settings"),
        "Show or change settings on the running machine: network, keyboard, rights; they count from its next start.",
    ),
    Command(
        "machine restart",
        ("machine", "restart"),
        "Restart the machine and compare what comes back with the build; exit 1 when it stays away.",
    ),
    Command(
        "machine key",
        ("machine", "key"),
        "Make a key pair for the machine's login; its public half goes along at the first boot.",
    ),
    Command(
        "machine each",
        ("machine", "each"),
        "Make the same change on several machines, one by one; exit 1 at the first that does not come back.",
    ),
    Command("machine list", ("machine", "listed"), "List the machines of all builds: address, image, card, last seen."),
    Command(
        "saves show", ("upkeep", "saves_show"), "List saves and states with their games, against the latest archive."
    ),
    Command("saves keep", ("upkeep", "saves_keep"), "Back up all saves in a dated archive with checksums."),
    Command(
        "saves restore",
        ("upkeep", "saves_restore"),
        "Restore saves; newer ones on the machine are not replaced. Exit 1 when there are any.",
    ),
    Command(
        "stick plan",
        ("upkeep", "stick_plan"),
        "Judge a stick without erasing it, and show both halves of the way; exit 1 when the machine cannot read it.",
    ),
    Command(
        "stick check",
        ("upkeep", "stick_check"),
        "Compare the menu that was foretold with the stick and with the machine; exit 1 when a title is missing.",
    ),
    Command(
        "update compare",
        ("upkeep", "update_compare"),
        "Show what a newer image changes, and predict its first power-on; exit 1 when it will not start.",
    ),
    Command(
        "update plan",
        ("upkeep", "update_plan"),
        "Show the way to a newer image and back; settings, games and saves stay.",
    ),
    Command(
        "exchange",
        ("upkeep", "exchange"),
        "Show the way to another card or to a disk, begin it, tick a step; exit 1 while steps are open.",
    ),
    Command("bringup", ("poweron", "bringup"), "Predict the first power-on from the bytes on a card."),
    Command("bringup diff", ("poweron", "diff"), "Compare the bring-ups of two cards."),
    Command(
        "trial",
        ("plan", "trial"),
        "Note that parts work together or do not, or list what was tried; findings and plans keep to it.",
    ),
    Command("log show", ("log", "show"), "List the logbook's entries, newest first."),
    Command("log add", ("log", "add"), "Add an entry: words, files, photos, a measured value, money, minutes."),
    Command("log diff", ("log", "diff"), "Show what differs between two entries or dates; exit 1 when something does."),
    Command("log restore", ("log", "restore"), "Take the build back to an entry, or forward again."),
    Command("log verify", ("log", "verify"), "Check that no entry was changed or is missing; exit 1 when one was."),
    Command(
        "log soak",
        ("log", "soak"),
        "Note a soak test; the fault finder learns from what failed. Exit 1 when something did.",
    ),
    Command("log outcome", ("log", "outcome"), "Note how far a real power-on came, against the forecast."),
    Command(
        "book",
        ("book", "book"),
        "Write the whole build as a book: parts, drawings, wiring, settings, modes, steps, log and photos.",
    ),
    Command(
        "class ask",
        ("classroom", "ask"),
        "List the lesson's questions along the route card; answers are not among them.",
    ),
    Command("class answer", ("classroom", "answer"), "Check a seat's answer and keep it; exit 1 when it is wrong."),
    Command("class sheet", ("classroom", "sheet"), "Write a sheet for each seat, and one with the answers, as PDF."),
    Command(
        "class tick",
        ("classroom", "tick"),
        "Note what a seat has seen at its first power-on, or reached in an exercise.",
    ),
    Command(
        "class results",
        ("classroom", "results"),
        "List how many each seat has right, its exercises and checks.",
    ),
    Command(
        "archive make", ("archive", "make"), "Write a build as one archive, the same byte for byte whoever makes it."
    ),
    Command("archive open", ("archive", "open_"), "Make the build folder of an archive."),
    Command(
        "archive check",
        ("archive", "check"),
        "Check an archive against its own checksums; exit 1 when something was changed.",
    ),
    Command(
        "archive compare",
        ("archive", "compare"),
        "Show what differs between two builds; exit 1 when something does.",
    ),
    Command("bringup log", ("poweron", "log"), "Compare a real machine's boot log with the forecast."),
    Command("rehearse", ("poweron", "rehearse"), "Boot a card on this computer, without a board."),
    Command("fault", ("fault", "fault"), "Find out why a machine fails and what to check next."),
    Command("drill list", ("fault", "drill_list"), "List the exercises and your results."),
    Command("drill start", ("fault", "drill_start"), "Start an exercise: a machine that fails."),
    Command("drill answer", ("fault", "drill_answer"), "Check something in the exercise, or name its cause."),
    Command(
        "preferences",
        ("preferences", "preferences"),
        "Show or set what holds for every build: the currency, and where your things are.",
    ),
    Command(
        "setup",
        ("setup", "setup"),
        "Show what a build sets up on its machine, its add-ons included; --script writes it for a running machine.",
    ),
    Command("plan wish", ("planning", "wish"), "Say or show what the machine shall be."),
    Command("plan solve", ("planning", "solve"), "Find the best plans for the wishes; exit 1 when there is none."),
    Command("plan compare", ("planning", "compare"), "Compare the build with the plans, or with another build."),
    Command("plan why", ("planning", "why"), "Show why a part is not in the best plan, or what it would cost more."),
    Command(
        "plan parts", ("planning", "parts"), "List what the build is made of: what is there, ordered, and to be bought."
    ),
    Command("schedule", ("planning", "schedule"), "Show all steps to the first game, and fill the evenings with them."),
    Command("part list", ("part", "list_parts"), "List the parts of the shelf, shipped and your own."),
    Command("part show", ("part", "show"), "Show a part's facts and the source of each."),
    Command("part learn", ("part", "learn"), "Learn a part from the part itself; --save adds it to the shelf."),
    Command(
        "part add", ("part", "add"), "Add a part by what is printed on it: supply, cable, card, adapter, disk, bridge."
    ),
    Command("part firmware", ("part", "firmware"), "Have your own system ask for a firmware file."),
    Command("part set", ("part", "change"), "Change one fact of your own part."),
    Command("part copy", ("part", "copy"), "Copy a part as your own."),
    Command("part delete", ("part", "delete"), "Remove your own part from the shelf; refused while a build uses it."),
    Command("part export", ("part", "export"), "Export a part, with everything it needs, to one file."),
    Command(
        "part import",
        ("part", "import_"),
        "Import a part file; differences from the shelf are shown.",
    ),
    Command(
        "part repository",
        ("repository", "repository"),
        "Share parts with others: make, check, sign, withdraw; add, forget, list, news, take.",
    ),
    Command("part check", ("part", "check"), "Check a part file, or all your own parts."),
    Command("part trust", ("part", "trust"), "Show the templates a build brings along; --use allows them."),
    Command("scan", ("library", "scan"), "List which games are ready, and why the rest are not."),
    Command("identify", ("library", "identify"), "Identify games by checksum with lists; add lists here."),
    Command(
        "match",
        ("library", "match_"),
        "List uncertain matches, likeliest first; answer with --say or --none.",
    ),
    Command("choose", ("library", "choose"), "Choose the games that fit, best value first."),
    Command("transfer", ("library", "transfer"), "Copy the games that are ready, and read them back."),
    Command(
        "texts",
        ("texts", "texts"),
        "List what is told of each game: description, year, players, genre, origin, licence, receipt.",
    ),
    Command("lists", ("library", "lists"), "Make the front end's lists, or a contents page to print."),
    Command(
        "tuning show",
        ("tuning", "show"),
        "Show every setting with its layer, and whether each system runs at full speed.",
    ),
    Command("tuning cost", ("tuning", "cost"), "Keep what frames take on this board, from a log of frame times."),
    Command(
        "tuning issue", ("tuning", "issue"), "Write the settings files into a folder: a stick, a share, or any other."
    ),
    Command(
        "tuning read",
        ("tuning", "read"),
        "Compare the settings files on the machine with the build's; exit 1 when they differ.",
    ),
    Command(
        "tuning latency",
        ("tuning", "latency"),
        "Calculate input latency, check it against camera footage, and rank ways to reduce it.",
    ),
    Command("timing cvt", ("timing", "cvt_timing"), "Compute a timing by VESA CVT 1.2."),
    Command("timing gtf", ("timing", "gtf_timing"), "Compute a timing by VESA GTF 1.1."),
    Command("timing dmt", ("timing", "dmt_timing"), "Look up a timing of VESA DMT 1.13 by its id."),
    Command("timing cta", ("timing", "cta_timing"), "Look up a timing of CTA-861 by its video code."),
    Command("controls show", ("controls", "show"), "Trace every switch to its terminal, event code and game."),
    Command(
        "controls wire", ("controls", "wire"), "Wire every switch to a terminal and list the wires to cut and crimp."
    ),
    Command(
        "controls prove",
        ("controls", "prove"),
        "Test every wire: press each control when asked; wiring faults are listed.",
    ),
    Command("controls map", ("controls", "map_"), "Show the button mapping and its cost."),
    Command(
        "controls export",
        ("controls", "export"),
        "Export mappings, rules, lists and drawings of the controls to a folder.",
    ),
    Command(
        "keyboard matrix",
        ("controls", "matrix"),
        "Find the rows and columns of a keyboard ribbon from the pins each key connects.",
    ),
    Command(
        "keyboard ghosts",
        ("controls", "ghosts"),
        "List key combinations that ghost, and the diodes that prevent it.",
    ),
    Command("keyboard map", ("controls", "keys"), "Map the old keyboard's keys to the machine's keys."),
    Command("pins", ("controls", "pins"), "Assign header pins to all hardware, or show why it is impossible."),
    Command(
        "modes",
        ("picture", "modes"),
        "Compare mode strategies for all systems and find the smallest set of modes.",
    ),
    Command(
        "picture chain",
        ("picture", "chain"),
        "Trace the signal from the board's socket to the screen and list mismatches.",
    ),
    Command(
        "picture signals",
        ("picture", "signals"),
        "List the signals sent to the display, from power-on to game and back.",
    ),
    Command("testcard", ("picture", "draw_card"), "Draw the test pattern at a mode's own size."),
    Command("edid read", ("edid", "read"), "Show what a display's EDID contains."),
    Command("edid write", ("edid", "write"), "Make an EDID for a display that has none."),
    Command("edid check", ("edid", "check"), "Check an EDID for errors and repair it."),
    Command("edid edit", ("edid", "edit"), "Change an EDID: its timings, its name, HDMI or DVI."),
    Command("help", ("manual_topics", "show"), "Show the help on a topic or on a finding's code, or search in it."),
    Command("doctor", ("desktop", "doctor"), "Show what this computer lacks for Kyklon, with the lines to type."),
    Command("desktop add", ("desktop", "add"), "Put Kyklon into the desktop's menu, with file types and manual pages."),
    Command("desktop remove", ("desktop", "remove"), "Take away what `kyklon desktop add` put there."),
    Command("completion", ("desktop", "completion"), "Print the completion script of a shell: bash, zsh or fish."),
)
