"""The commands of every page: one declaration for buttons, key sheet, palette and key bindings. Their functions are in the page's
script, by name. Letters and digits stand for themselves; a digit is the key in that place, whatever it types unshifted."""

from .command import Command, Group

GO = Group("Go to", (
    Command("goShots", ("g h",), "the shots", by_page=True, words="home start list"),
    Command("goBench", ("g b",), "the bench of this shot", by_page=True, words="back"),
    Command("goSurvey", ("g s",), "survey: what is wrong with the scene, and how to fix it", of_scene=True, by_page=True,
            words="check geometry problems"),
    Command("goSequences", ("g n",), "sequences of this moving shot", of_scene=True, by_page=True, words="animation frames flicker play"),
    Command("goRecipes", ("g r",), "recipes that are kept", by_page=True, words="presets settings"),
    Command("goCaches", ("g c",), "caches on disk", by_page=True, words="storage files space"),
    Command("goMachines", ("g m",), "machines: where it renders, and on how many threads", by_page=True,
            words="helpers farm cluster threads memory priority cores"),
))  # fmt: skip
PAGE = Group("Page", (
    Command("paper", ("u t",), "light or dark theme", by_page=True, words="night mode colours"),
    Command("printPage", ("u p",), "print this page, or save it as PDF", by_page=True, words="paper pdf export report"),
    Command("sheet", ("g k",), "this sheet of keys", by_page=True, words="help keyboard shortcuts"),
))  # fmt: skip
_ZOOM = (
    Command("fit", ("0",), "fit the picture", words="zoom whole"), Command("pixels", ("1",), "pixel for pixel", words="zoom 100 percent actual size"),
    Command("zoomOut", ("2",), "zoom out", words="smaller farther"), Command("zoomIn", ("3",), "zoom in", words="closer larger"),
    Command("darker", ("4",), "darker by a third of a stop", words="exposure brightness"),
)  # fmt: skip
_LIGHTER = Command("lighter", ("6",), "brighter by a third of a stop", words="exposure brightness lighter")
_FLIP = "hold to see the other one"

BENCH = (
    Group("Render", (
        Command("prove", ("Enter",), "prove the recipe", of_scene=True, words="render start run go draft"),
        Command("leave", ("Escape",), "cancel the render; leave region, wipe or difference", words="stop abort back"),
        Command("region", ("r",), "drag a region; again for the whole frame", "region", "drag a part of the picture to render only that", True, True,
                words="crop part box area"),
        Command("enlarge", ("z",), "render the region enlarged to the whole plate; again: back", "enlarge", of_scene=True, words="zoom crop bigger"),
        Command("live", ("h",), "render every change as it is made (dragging a number sideways always renders a region at once)", "live",
                "render every change as it is made", True, True, words="interactive preview"),
        Command("walk", ("k",), "move the camera", "camera", "move the camera on the plate", True, True, words="orbit navigate view"),
        Command("rise", ("PageUp",), "the camera rises", of_scene=True, words="up crane"),
        Command("sink", ("PageDown",), "the camera sinks", of_scene=True, words="down crane"),
        Command("half", ("m h",), "half size", of_scene=True, words="smaller resolution pixels"),
        Command("double", ("m d",), "double size", of_scene=True, words="larger bigger resolution pixels"),
        Command("plateSize", ("m p",), "as many pixels as the picture has on the plate", of_scene=True, words="size resolution screen fill"),
        Command("oneByOne", ("m o",), "several changes: prove them one by one", of_scene=True, words="separately each"),
        Command("queue", ("g q",), "the queue: order, hold, give way", of_scene=True, words="jobs waiting renders priority"),
        Command("undo", ("Ctrl z",), "undo a change; with Shift redo", by_page=True, words="back history"),
    )),
    Group("Compare", (
        Command("parent", ("p",), "compare with its parent", words="previous original before"),
        Command("flip", ("f",), "hold to see the other proof", "flip", _FLIP, held=True, words="toggle"),
        Command("wipe", ("w",), "wipe between the two", "wipe", "", True, words="split slide"),
        Command("difference", ("d",), "difference, mid grey is none", "difference", "", True, words="subtract"),
        Command("weaker", ("7",), "weaker difference", words="gain"), Command("stronger", ("8",), "stronger difference", words="gain"),
        Command("compare", ("b",), "side by side, with the visible difference", "beside", words="two next to each other"),
        Command("pin", ("i",), "pin a point or a box", "pin", "watch a point or a box through all proofs", True, words="probe marker watch value"),
    )),
    Group("Look", (
        *_ZOOM, Command("asCamera", ("5",), "the camera's exposure", words="reset brightness"), _LIGHTER,
        Command("measure", ("9",), "measure the exposure", words="auto automatic"),
        Command("only", ("o",), "only the picture; again: everything back", "only picture", "put every panel away", True,
                words="full screen hide panels bare"),
        Command("filter", ("n",), "filter the noise of this proof, with the unfiltered one beside it", "Filter this proof", "", True,
                words="denoise clean grain"),
        Command("view", ("v",), "next view", words="tone display transform"),
        Command("pass", ("a",), "next pass", words="aov layer channel albedo normal depth"),
        Command("marks", ("c",), "show the contents of this proof's caches: records, photons, cells, elements", "caches",
                "the contents of this proof's caches", True, True, words="points map"),
        Command("hatch", ("u h",), "hatch where no cache was used and rays were traced; again: where a depth map's texels are larger than pixels",
                of_scene=True, words="overlay served traced"),
        Command("finish", ("e",), "finishing, or back to the recipe", words="grade balance contrast white tone save"),
    )),
    Group("Proofs", (
        Command("before", ("ArrowUp",), "proof before", words="previous up"), Command("after", ("ArrowDown",), "proof after", words="next down"),
        Command("fold", ("ArrowLeft",), "fold its descendants", words="collapse hide"),
        Command("unfold", ("ArrowRight",), "unfold them", words="expand show"),
        Command("star", ("m s",), "star", words="favourite mark keep"), Command("name", ("m n",), "name and note", words="rename comment label"),
        Command("putAside", ("m x", "Delete"), "delete", words="remove trash discard"),
        Command("select", ("m m",), "select this proof, or no more (Ctrl and a click on any)", words="multiple several mark"),
        Command("copySettings", ("m c",), "copy the settings of the form", of_scene=True, words="clipboard recipe values"),
        Command("pasteSettings", ("m v",), "paste copied settings, of this shot or another", of_scene=True, words="clipboard recipe values apply"),
        Command("cover", ("m k",), "make this proof the cover of the shot", words="thumbnail poster picture"),
        Command("find", ("m f",), "search the proofs", words="find lineage filter"),
    )),
    Group("Lights", (
        Command("lights", ("l",), "lights, or back to the recipe", of_scene=True, words="lamps panel"),
        Command("solo", ("s",), "solo the light under the pointer, or the open one", of_scene=True, words="isolate only"),
        Command("lightOn", ("x",), "switch that light", of_scene=True, words="on off mute"),
        Command("reach", ("q",), "click a point: which lights reach it, and what blocks the others", "reach", "", True, True,
                words="blocked shadow who lights this"),
        Command("plan", ("g p",), "plan and elevation: drag lights to move, aim and size them", "plan", "", True, True, words="top view map place"),
    )),
    Group("Find what is wrong, and what is enough", (
        Command("findings", ("j f",), "findings: what is wrong with this picture; again: diagnose",
                words="flaws problems fireflies blotches leaks grain noise wrong diagnosis"),
        Command("findingAfter", ("j j",), "the next finding", words="flaw"),
        Command("findingBefore", ("j b",), "the finding before", words="previous flaw"),
        Command("proveFirst", ("j p",), "prove the first remedy", of_scene=True, words="fix cure repair flaw"),
        Command("ladder", ("t l",), "ladder of the last used number, on the region", words="how high enough test values samples"),
        Command("budget", ("t b",), "budget: where the next second goes", words="time seconds split spend"),
        Command("match", ("t m",), "match: which way wins", words="compare brute force cache photons gi"),
        Command("advice", ("t a",), "advice: which way this shot should use, and why", words="recommend suggest help choose"),
    )),
    Group(GO.title, GO.commands),
    Group("Page", (
        Command("palette", ("Space",), "find anything: actions, settings, lights, proofs, pages"),
        Command("lineagePanel", ("u l",), "lineage: away, or back", words="panel hide show fold proofs"),
        Command("recipePanel", ("u r",), "recipe, findings and lights: away, or back", words="panel hide show fold right"),
        Command("arrange", ("u f",), "lineage along the foot, or at the side", words="layout arrangement panel strip"),
        Command("accept", ("y",), "do what the line under the picture proposes", words="next step yes"),
        Command("nextLine", ("u n",), "the line under the picture that proposes the next step: away, or back", words="hint advice"),
        Command("ledger", ("u g",), "open the ledger, or make it a strip", words="time noise sources"),
        Command("guide", ("g g",), "the first five minutes: be led through the loop", words="tour help tutorial start introduction"),
        *PAGE.commands,
    )),
)  # fmt: skip

_PLATE = Group("Look", (*_ZOOM, _LIGHTER))
COMPARE = (
    Group("Compare", (
        Command("pictures", ("p",), "the pictures"), Command("wipe", ("w",), "A right of the pointer, the other left of it"),
        Command("difference", ("d",), "signed difference against A"), Command("weaker", ("7",), "weaker"), Command("stronger", ("8",), "stronger"),
        Command("visible", ("y",), "visible difference"), Command("flip", ("f",), "hold to see A everywhere", held=True),
        Command("numbers", ("n",), "recipes, ledgers and pins in numbers"), Command("back", ("Escape",), "back to the bench"),
    )), _PLATE, GO, PAGE,
)  # fmt: skip
SEQUENCES = (
    Group("Play", (
        Command("play", ("Space",), "play, pause"), Command("back", ("ArrowLeft",), "frame before"), Command("on", ("ArrowRight",), "next frame"),
        Command("first", ("Home",), "first frame"), Command("last", ("End",), "last frame"),
        Command("loopFrom", ("i",), "loop from here; again: all frames"), Command("loopTo", ("o",), "loop to here; again: all frames"),
    )),
    Group("Judge", (
        Command("wipe", ("w",), "wipe between the two sequences"), Command("flip", ("f",), "hold to see the other", held=True),
        Command("map", ("m",), "where it flickers: grey is not seen, amber ten times what is just seen"),
        Command("inTime", ("n",), "filtered with the help of the neighbouring frames"), Command("worst", ("j",), "jump to the worst frame"),
        Command("leave", ("Escape",), "back to the bench"),
    )), _PLATE, GO, PAGE,
)  # fmt: skip
SURVEY = (
    Group("Survey", (
        Command("before", ("ArrowUp",), "finding before"), Command("after", ("ArrowDown",), "finding after"),
        Command("fix", ("m",), "apply the first fix of the selected one"),
        Command("undo", ("Ctrl z",), "undo a fix; with Shift redo", by_page=True),
        Command("flip", ("f",), "hold to see it as in the file", held=True),
        Command("stand", ("q",), "click a point on the plan: what it sees, what lights it"),
        Command("lower", ("4",), "cut the plan lower (or drag the dashed lines)"), Command("higher", ("6",), "cut the plan higher"),
        Command("prove", ("Enter",), "prove with the fixes"), Command("leave", ("Escape",), "cancel the survey; leave a point; back to the bench"),
    )), GO, PAGE,
)  # fmt: skip
TUNE = (
    Group("Tune", (
        Command("start", ("Enter",), "start"), Command("leave", ("Escape",), "cancel, or back to the bench"),
        Command("earlier", ("ArrowLeft",), "picture before"), Command("later", ("ArrowRight",), "next picture"),
        Command("flip", ("f",), "hold to see the next rung, or brute force, in its place", held=True),
        Command("take", ("p",), "prove the offer, on the bench"),
        Command("ladder", ("t l",), "ladder"), Command("budget", ("t b",), "budget"), Command("match", ("t m",), "match"),
        Command("advice", ("t a",), "advice"),
    )), GO, PAGE,
)  # fmt: skip
REPORT = (Group("Report", (Command("print", ("p",), "print"), Command("back", ("Escape",), "back to the bench"))), GO, PAGE)
OTHER = (GO, PAGE)

PAGES = {"bench": BENCH, "compare": COMPARE, "sequences": SEQUENCES, "survey": SURVEY, "tune": TUNE, "report": REPORT, "": OTHER}
"""The groups of each page's commands; "" is every page without keys of its own."""
