"""Shapes of the API's answers and requests."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from ninja import Field, Schema

from ...engine.bounded import Label, Text
from ...engine.colour.input_space import InputSpace
from ...engine.colour.look import Look
from ...engine.delivery import DeliveryReport
from ...engine.format import Format
from ...engine.judge.patches import PatchBeforeAfter, Remaining
from ...engine.judge.standing import FrameNoise, Standing
from ...engine.measure.patch import Patch, PatchReading
from ...engine.measure.report import SourceCheck, SurveyReport
from ...engine.media import MediaInfo
from ...engine.media.dither import How
from ...engine.noise.profile import NoiseCurve
from ...engine.plan import Plan
from ...engine.propose import Untreated
from ...engine.reel.taking import Placed
from ...engine.reel.wanted import Wanted


class WorkOut(Schema):
    """The state of background work."""

    id: int
    state: str
    progress: float
    started: datetime | None
    message: str
    cancel_requested: bool


class JobIn(Schema):
    name: Text


class JobChange(Schema):
    """What is to change; `tolerances` replaces all of the job's own."""

    name: Text | None = None
    tolerances: dict[str, float] | None = None
    wanted: Wanted | None = None


class JobOut(Schema):
    id: int
    name: str
    created: datetime
    shots: int
    tolerances: dict[str, float]
    wanted: Wanted
    """How its shots are written."""


class ShotOut(Schema):
    """A shot on the contact sheet."""

    id: int
    job_id: int
    name: str
    fingerprint: str
    picture_key: str
    """Names its footage and the engine that shows it, for the addresses of pictures."""
    media: MediaInfo
    place: Placed | None = None
    """Where it stands in the timeline that it came from."""
    cuts: list[int] = Field(default_factory=list)
    """Frames with which another picture begins."""
    origin_id: int | None = None
    """The shot that it was made of, as a scene or a stand-in, which comes back when that is taken back."""
    made_of: str = ""
    """What it was made of, in words; empty for footage that came in."""
    generation: int = 0
    """How often its frames were treated and written before."""
    input_space: InputSpace | None = None
    """What its values are taken for, and how sure that is."""
    findings: list[Standing] | None
    source: SourceCheck | None
    survey: WorkOut | None
    render: WorkOut | None
    versions: list[str]
    newest_version: int | None = None
    """The last of them, by the id that it has."""
    problem: str
    """What is wrong with its footage or its documents, in one line; empty when nothing is."""


class FormatOfResult(Schema):
    """What the frames of a result are: pixels, how many of them to one of the source, and in words what of size and
    colour is other than in the source."""

    width: int
    height: int
    per_pixel: float
    beside_source: str

    @staticmethod
    def of(info: MediaInfo, plan: Plan) -> FormatOfResult:
        source = Format.of(info)
        result = plan.formats(source)[-1]
        return FormatOfResult(
            width=result.width,
            height=result.height,
            per_pixel=max(result.per_pixel_of(source)),
            beside_source=result.beside(source),
        )


class VersionOut(Schema):
    """A plan version; `key` names its result for caches, `matte_keys` the matte of each step. One that this release
    cannot read says so in `problem`, and its plan is empty."""

    id: int
    revision: int
    label: str
    note: str
    plan: Plan
    key: str
    matte_keys: list[str]
    view_keys: list[str]
    """Names what the own views of each step show."""
    advice: list[str]
    """For each step, why it should stand later; empty for one that stands well."""
    works_in: list[str] = Field(default_factory=list)
    """For each step what the frames are that it is handed, where the plan changes that."""
    states: list[list[str]] = Field(default_factory=list)
    """For each step the numbers that it goes by, in sentences."""
    format: FormatOfResult | None = None
    problem: str = ""


class ProposalOut(Schema):
    """The plan that is proposed, each step with its reason, and the findings outside that it leaves alone."""

    plan: Plan
    untreated: list[Untreated]


class VersionIn(Schema):
    """A plan; its note and label stay as they are where none are given. With `revision`, that of the version that
    was changed, one that was changed from elsewhere meanwhile is not written over."""

    plan: Plan
    revision: int | None = None
    note: Text | None = None
    label: Annotated[Label, Field(min_length=1)] | None = None


class ShotDetail(ShotOut):
    """A shot on the Bench."""

    report: SurveyReport | None
    measured: list[Standing]
    """The findings as they stand without a plan."""
    by_frame: FrameNoise | None
    spectrum: list[list[list[float]]] | None
    """By axis and octave: the noise's 64 deviations beside white noise, which reads 1."""
    plans: list[VersionOut]
    matching_profile: int | None
    """The saved profile of the same camera and gain, if there is one."""
    look: Look
    look_key: str


class PatchVerdict(Schema):
    """What a drawn patch shows; where it is refused, the nearest place that would do; and where a version is named
    what that leaves there."""

    reading: PatchReading
    better: PatchReading | None
    result: PatchBeforeAfter | None


class LeftOut(Schema):
    """What a version leaves: the findings as they then stand, and one sentence on a plan that does nothing."""

    left: Remaining
    standings: list[Standing]
    by_frame: FrameNoise
    said: str


class HueIn(Schema):
    """A place on a frame whose colour is to be sampled, on the picture that a step starts from."""

    n: int
    x: float
    y: float
    remove: bool = False


class StripIn(Schema):
    """One setting of a step to be tried at several values, on a region of a frame."""

    step: int
    setting: str
    n: int
    x: int
    y: int
    width: int
    height: int


class InputSpaceIn(Schema):
    """What a shot's values are in; empty: what its file says. For all shots of its camera, or it alone."""

    space: str
    whole_camera: bool = False


class SurveyIn(Schema):
    """Patches to measure by; none for automatic choice."""

    patches: list[Patch] = Field(default_factory=list)


class ProfileIn(Schema):
    """How a noise profile is named and tagged."""

    name: Text
    camera: Text = ""
    gain: Text = ""
    notes: str = ""


class ProfileOut(ProfileIn):
    """A saved noise profile; sigmas in 10-bit code values."""

    id: int
    created: datetime
    luma_cv: float
    chroma_cv: float
    grain_px: float
    confidence: float
    origin: str
    curve: NoiseCurve


class OwnViewOut(Schema):
    """A view that a treatment offers of its own work."""

    name: str
    title: str
    help: str


class TreatmentOut(Schema):
    """A treatment; `parameters` is the JSON schema from which its controls are drawn."""

    kind: str
    title: str
    treats: list[str]
    parameters: dict[str, Any]
    reshapes: bool
    """Whether it changes size or colour of the whole frame: such a step has no Mix, channels or Reach."""
    marks: bool = Field(description="Whether it lists the single things that it found.")
    course: bool = Field(description="Whether it offers a curve of what it changes over time.")
    views: list[OwnViewOut]


class PartsSchema(Schema):
    """By name of the part: the JSON schema from which its controls are drawn."""

    parts: dict[str, dict[str, Any]]


class TimecodeOut(Schema):
    frame: int
    timecode: str


class FormatOut(Schema):
    name: str
    title: str
    ending: str
    bits: int
    lost: list[str]
    """What it cannot carry of the shot."""


class RenderIn(Schema):
    version_id: int
    format: str
    first: int | None = None
    stop: int | None = None
    bake_look: bool = False
    dither: How = "moving"
    """How the result goes to fewer bits."""


class RenderOut(WorkOut):
    """A render with what it wrote."""

    shot_id: int
    shot_name: str
    label: str
    format: str
    first: int
    stop: int
    created: datetime
    file_name: str
    report: DeliveryReport | None
    name: str
    out: str
    """The delivery folder that it goes to; empty for the application's own."""
    paused: bool
    finished: datetime | None
    needed_bytes: int | None
    """Room on disk that it takes while it is written."""
    seconds_left: float | None
    """By itself, as far as finished ones tell."""


class UploadState(Schema):
    """Bytes received so far of each file of an upload."""

    token: str
    received: dict[str, int]


class Added(Schema):
    """What became of an upload or import: shots, and one line for each file that was refused."""

    shots: list[ShotOut]
    refused: list[str]


class FolderEntry(Schema):
    name: str
    path: str
    is_folder: bool


class Problem(Schema):
    """Every error: one line for the user."""

    detail: str


class EventWork(Schema):
    """One piece of work as the event stream tells it."""

    kind: str
    id: int
    shot_id: int
    state: str
    progress: float
    started: datetime | None
    message: str
