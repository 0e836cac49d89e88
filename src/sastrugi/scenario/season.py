"""Words of the field season: people, places, instruments, and the sentences of a log."""

PEOPLE = (
    "Ida Brekke", "Tomasz Żuławski", "Marit Ålund", "José Peña", "Nora Kjær", "Émile Garnier", "Sólveig Þórsdóttir",
    "Anouk Bélanger", "Henrik Øvergård", "Priya Raman", "Yuki Tanabe", "Léa Moreau",
)  # fmt: skip
PLACES = (
    "Camp Firnline", "Ålbreen tongue", "North sastrugi field", "Crevasse line B", "Nunatak Skålen", "Wind tower",
    "Ice-core trench", "Upper accumulation basin", "Moulin 4", "Radar profile East", "Snow pit 17", "Supply depot",
)  # fmt: skip
SUBJECTS = (
    "the drill head", "the sound logger", "the GPS stick", "the weather mast", "the radar sledge", "core section {n}",
    "the base-camp disk", "the stake line", "the snow-pit wall", "the tethered balloon", "camera {n}",
    "the melt sensor",
)  # fmt: skip
VERBS = (
    "was checked and left running", "froze over again during the night", "gave {n} clean readings",
    "was moved {n} metres down-glacier", "stopped after {n} minutes in the wind", "was packed for the flight",
    "drifted by {n} centimetres", "agreed with the reading of the day before", "had to be dug out",
    "was recalibrated against ice at the melting point", "ran through the storm without a gap",
)  # fmt: skip
WEATHER = (
    "Clear, light katabatic wind.", "Drifting snow, visibility {n} metres.", "Whiteout until noon.",
    "Calm and very cold.",
    "High cloud, flat light over the sastrugi.", "Gusts from the south-east, tents guyed twice.",
)  # fmt: skip
WORDS = (
    "firn", "hoar", "melt", "crust", "dust", "ash", "bubble", "layer", "drift", "ridge", "probe", "stake",
    "core", "spring",
    "storm", "depot", "trench", "tower", "profile", "slope",
)  # fmt: skip
THEMES = (
    "Ice core log", "Snow pit notes", "Stake readings", "Wind tower report", "Crevasse survey", "Radar profile",
    "Sound logger download", "Camp inventory", "Melt season summary", "Avalanche observations",
    "Flight plan", "Weekly report",
)  # fmt: skip
FOREIGN_TITLES = (
    "Crête glacée à l’aube", "Überblick Höhenmessung", "Ísinn við Þingvað", "Señal del glaciar",
    "Lodowiec — dzień żółty",
    "Ледник утро", "雪原の記録", "Παγετώνας", "Jökulhlaup sýni", "Mätserie före töväder",
)  # fmt: skip
