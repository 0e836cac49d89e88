"""Random recipes: any sequence of steps that fits together, for property tests."""

from __future__ import annotations

import random

from sastrugi.specimen.recipe import Recipe
from sastrugi.volumes.registry import variant_names

FILE_SYSTEMS = {
    "fat12": ("2 MiB", "1 KiB"),
    "fat16": ("8 MiB", "512 B"),
    "fat32": ("36 MiB", "512 B"),
    "exfat": ("8 MiB", "1 KiB"),
    "ntfs": ("8 MiB", "1 KiB"),
    "ext2": ("8 MiB", "1 KiB"),
    "ext3": ("8 MiB", "1 KiB"),
    "ext4": ("9 MiB", "1 KiB"),
    "hfs+": ("9 MiB", "1 KiB"),
    "hfsx": ("10 MiB", "512 B"),
}
if "drift" in variant_names():  # the file system of tests/driftfs, where it is asked for
    FILE_SYSTEMS["drift"] = ("8 MiB", "1 KiB")
HABITS = ("linux", "windows", "macos", "camera", "old-linux")


def random_recipe(seed: int, file_system: str, steps: int = 12, sizes: str = "1 KiB..20 KiB") -> Recipe:
    """A recipe on a bare medium: some stores, then changes and losses in any order. Steps that would find nothing to
    work on are left out by keeping count of what each folder holds."""
    dice = random.Random(f"{seed} {file_system}")
    size, cluster = FILE_SYSTEMS[file_system]
    folders = dict.fromkeys(("/A", "/A/Depth", "/B"), 0)
    out: list[dict[str, object]] = [format_step(file_system, cluster, dice)]
    first_number = 0
    for _ in range(steps):
        full = [name for name, count in folders.items() if count]
        where = dice.choice(full or ["/A"])
        do = dice.choice(["store", "store", *(_CHANGES if full else [])])
        some: dict[str, object] = {"do": do, "what": [f"{where}/*.*"], "share": dice.choice([0.3, 1.0])}
        if do == "store":
            where = dice.choice(list(folders))
            names = dice.choice(["camera", "long", "accented"])
            corpus = {"files": dice.randint(1, 4), "kinds": ["txt", "csv", "png"], "size": sizes, "names": names,
                      "first_number": first_number}  # fmt: skip
            first_number += 10
            laid = {
                "reuse": dice.choice(["next", "first", "last", "spread"]),
                "pieces": dice.choice([1, 1, 3]), "gaps": dice.choice(["fillers", "interleaved"]),
            }  # fmt: skip
            woven = {"writers": dice.randint(2, 5), "chunk": "1 KiB..8 KiB"}
            out.append({"do": do, "into": where, "corpus": corpus} | (woven if dice.random() < 0.3 else laid))
            folders[where] += 1
            continue
        if do == "grow":
            some["by"] = dice.choice(["300 B", "9 KiB"])
        elif do == "edit":
            some |= {"how": dice.choice(["replace", "truncate", "in-place"]), "scale": dice.choice([0.5, 1.0, 2.0])}
        elif do == "rename":
            some["to"] = dice.choice(
                ["{stem}-" + str(len(out)) + "{suffix}", f"{len(out)}-{{n}} a longer name than before{{suffix}}"]
            )
        elif do == "copy":
            some["into"] = f"/Copies {len(out)}"
        elif do in ("delete", "bin"):
            habits = dice.choice(HABITS if do == "delete" else HABITS[:3])
            some |= {"acts_as": habits, "share": 1.0}
            discard = {"discard": True} if dice.random() < 0.2 else {}
            some |= discard if do == "delete" else {}
            folders[where] = 0
            if where == "/A":
                some["what"] = ["/A"]
                folders["/A/Depth"] = 0
            out.append(some)
            if do == "bin" and dice.random() < 0.6:
                out.append({"do": "empty-bin", "acts_as": habits} | discard)
            continue
        elif do == "churn":
            some = {
                "do": do,
                "write": "60 KiB",
                "delete": "30 KiB",
                "size": "4 KiB..20 KiB",
                "reuse": dice.choice(["first", "next"]),
            }
        elif do == "wipe":
            some = {"do": do, "what": "free", "fill": dice.choice(["zeros", "noise"])}
        elif do == "fade":
            some = {"do": do, "what": [f"{where}/*.*"], "sectors": 2}
            folders[where] = 0
        elif do == "discard":
            some = {"do": do}
        elif do == "format":
            some = format_step(file_system, cluster, dice)
            folders = dict.fromkeys(folders, 0)
        out.append(some)
    return Recipe.model_validate({
        "recipe": 1, "name": "random", "title": "random", "seed": seed, "medium": {"size": size}, "steps": out,
    })  # fmt: skip


_CHANGES = ("grow", "edit", "rename", "copy", "delete", "delete", "bin", "churn", "wipe", "discard", "fade", "format")


def format_step(file_system: str, cluster: str, dice: random.Random) -> dict[str, object]:
    step: dict[str, object] = {
        "do": "format",
        "file_system": file_system,
        "cluster": cluster,
        "label": "FIRN",
        "how": dice.choice(["quick", "quick", "full"]),
        "discard": dice.random() < 0.2,
    }
    if file_system == "ntfs":  # habits say where its records begin, and whether it keeps a log
        step["acts_as"] = dice.choice(["linux", "windows"])
    if file_system.startswith("hfs"):  # … or whether it keeps a journal
        step["acts_as"] = dice.choice(["linux", "macos"])
    if file_system.startswith("ext"):  # … or which features there are
        step["acts_as"] = dice.choice(["linux", "old-linux"])
    return step
