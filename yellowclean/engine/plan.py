"""The plan: the ordered treatments of a shot as an open JSON document."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection
from typing import Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from .bounded import MOST_STEPS
from .colour.look import Look
from .errors import BadInput, BadPlan
from .format import Format
from .media.dither import How
from .noise.profile import NoiseProfile, first_problem
from .reach.model import Reach
from .treat import TREATMENTS, Parameters, Treatment


class ChannelMix(BaseModel):
    """How much of a step is used in each colour channel, in percent, on top of its Mix."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    r: float = Field(100, ge=0, le=100)
    g: float = Field(100, ge=0, le=100)
    b: float = Field(100, ge=0, le=100)


class Step(BaseModel):
    """One treatment in a plan: its kind, its settings, its Mix and its Reach."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    kind: str = Field(description="Name of a treatment.")
    enabled: bool = True
    mix: float = Field(100, ge=0, le=100, description="How much of the step is used, in percent.")
    channels: ChannelMix = ChannelMix()
    reach: Reach = Field(Reach(), description="Where the step acts; everywhere, when nothing is asked for.")
    settings: dict[str, Any] = Field(default_factory=dict, description="By the treatment's own schema.")
    reason: str = Field("", description="Why the step was proposed, in one sentence.")

    @model_validator(mode="after")
    def _settings_fit(self) -> Self:
        if self.kind not in TREATMENTS:
            raise ValueError(f"no treatment is called {self.kind!r}; known are {', '.join(TREATMENTS)}")
        try:
            self.treatment.parameters.model_validate(self.settings)
        except ValidationError as error:
            raise ValueError(f"{self.kind} settings: {first_problem(error)}") from error
        if self.treatment.reshapes and not (self.unmixed and self.reach == Reach()):
            raise ValueError(f"{self.kind} changes the whole frame; it has no Mix, channels or Reach")
        return self

    @property
    def treatment(self) -> Treatment:
        return TREATMENTS[self.kind]

    @property
    def parameters(self) -> Parameters:
        """The settings with every default filled in."""
        return self.treatment.parameters.model_validate(self.settings)

    @property
    def unmixed(self) -> bool:
        """Whether all of its result is used, where it reaches."""
        return self.mix == 100 and self.channels == ChannelMix()

    @property
    def acts(self) -> bool:
        return self.enabled and self.mix > 0 and max(self.channels.r, self.channels.g, self.channels.b) > 0


class Plan(BaseModel):
    """The steps in order, with the noise profile they are measured by."""

    model_config = ConfigDict(frozen=True, extra="forbid", populate_by_name=True)

    schema_id: Literal["yellow-clean/plan/1"] = Field("yellow-clean/plan/1", alias="schema")
    profile: NoiseProfile | None = None
    steps: list[Step] = Field([], max_length=MOST_STEPS)
    dither: How = Field("moving", description="How the result goes to fewer bits; decides no frame, but a file.")
    look: Look = Field(Look(), description="A look that is baked into the result; plain for none.")

    @model_validator(mode="after")
    def _profile_present(self) -> Self:
        if self.steps and self.profile is None:
            raise ValueError("steps need a noise profile; measure the shot first")
        return self

    def to_json(self) -> str:
        return self.model_dump_json(by_alias=True, indent=1)

    def step(self, number: int) -> Step:
        """A step by its number, counted from 0; raises `BadInput` when there is none."""
        if not 0 <= number < len(self.steps):
            raise BadInput(f"step {number} does not exist; the plan has {len(self.steps)} steps.")
        return self.steps[number]

    def with_setting(self, number: int, setting: str, value: float) -> Plan:
        """The plan with one setting of one step changed; raises `BadPlan` when it is out of range."""
        step = self.step(number)
        document = step.model_dump() | {"settings": {**step.settings, setting: value}}
        try:
            changed = Step.model_validate(document)
        except ValidationError as error:
            raise BadPlan(first_problem(error)) from error
        return self.model_copy(update={"steps": [*self.steps[:number], changed, *self.steps[number + 1 :]]})

    def formats(self, source: Format) -> list[Format]:
        """The format of the source, and behind each step that acts. Raises `BadInput` for sizes out of range."""
        found = [source]
        for step in self.steps:
            hands_on = step.treatment.hands_on if step.acts else None
            if hands_on:
                found.append(hands_on(step.parameters, found[-1]))
            elif step.acts:
                found.append(found[-1])
        return found

    def format_before(self, source: Format, step: int) -> Format:
        """The format that step number `step` is handed, acting or not."""
        return self.model_copy(update={"steps": self.steps[:step]}).formats(source)[-1]

    @property
    def luts(self) -> list[str]:
        """Paths of the LUT files that it needs."""
        return [path for path in (self.look.lut, *(getattr(s.parameters, "lut", "") for s in self.steps)) if path]

    def works_in(self, source: Format) -> list[str]:
        """For each step what the frames that it is handed are, in words, where the plan changes their format."""
        if not any(step.acts and step.treatment.reshapes for step in self.steps):
            return [""] * len(self.steps)
        formats = [self.format_before(source, k) for k in range(len(self.steps))]
        return [f"Works in {form.encoding.space}, {form.width}×{form.height} px." for form in formats]

    def states(self, source: Format) -> list[list[str]]:
        """For each step the numbers that it goes by, in sentences, on a source of that format."""
        return [
            step.treatment.states(step.parameters, self.format_before(source, k)) if step.treatment.states else []
            for k, step in enumerate(self.steps)
        ]

    def advice(self, outside: Collection[str] = ()) -> list[str]:
        """For each step, why it should stand later, or not at all where the source has the findings `outside` their
        tolerances; empty for one that stands well. Steps that reshape may come in any order among themselves."""
        return [
            " ".join(told for told in (*self._worsened(step, outside), self._better_later(number)) if told)
            for number, step in enumerate(self.steps)
        ]

    @staticmethod
    def _worsened(step: Step, outside: Collection[str]) -> list[str]:
        return [why for kind, why in step.treatment.worsens.items() if step.acts and kind in outside]

    def _better_later(self, number: int) -> str:
        step = self.steps[number]
        first = [
            later.treatment.title
            for later in self.steps[number + 1 :]
            if step.acts and later.acts and later.treatment.order < step.treatment.order
            and not (step.treatment.reshapes and later.treatment.reshapes)
        ]  # fmt: skip
        if not first or not step.treatment.early:
            return ""
        return f"Better behind {' and '.join(dict.fromkeys(first))}: {step.treatment.early}."

    def only(self, wanted: Callable[[Treatment], bool]) -> Plan:
        """The acting steps of the wanted treatments, alone."""
        steps = [step for step in self.steps if step.acts and wanted(step.treatment)]
        return self.model_copy(update={"steps": steps, "look": Look()})

    def reshaping(self) -> Plan:
        """The steps that change size or colour, alone."""
        return self.only(lambda treatment: treatment.reshapes)

    def mending(self) -> Plan:
        """The steps that change size or colour, or put right what no scene shows, alone."""
        return self.only(lambda treatment: treatment.reshapes or treatment.mends)

    @property
    def restores(self) -> bool:
        """Whether a step brings detail back."""
        return any(step.acts and step.treatment.restores for step in self.steps)

    def taking(self) -> Plan:
        """All but the steps that bring detail back, which would hide what the others take."""
        return self.only(lambda treatment: not treatment.restores) if self.restores else self

    def treating(self, kind: str) -> Plan:
        """The steps that treat a kind of finding, alone."""
        return self.only(lambda treatment: kind in treatment.treats)

    def draft(self, share: float = 1) -> Plan:
        """The plan without the steps that look at other frames, on a picture reduced to `share` of its size: a
        coarse picture in a fraction of the time."""
        needs = [step.treatment.need(step.parameters) for step in self.steps]
        alone = [step for step, need in zip(self.steps, needs, strict=True) if need.back == need.ahead == 0]
        if share < 1 and alone:
            alone.insert(0, Step(kind="resize", settings={"factor": share, "kernel": "triangle"}))
        return self.model_copy(update={"steps": alone})

    def digest(self, steps: int | None = None) -> str:
        """A hash of all that decides the result of the first `steps` steps."""
        # The filled-in parameters, not the settings as written: 100 and 100.0 are one value.
        acting = [
            (s.kind, s.mix, s.channels.model_dump(), s.reach.model_dump(), s.parameters.model_dump())
            for s in self.steps[:steps]
            if s.acts
        ]
        told = repr(acting) + (_told_of(self.profile) if self.profile and acting else "")
        told += self.look.digest() if steps is None else ""
        return _hashed(told)

    def matte_digest(self, step: int) -> str:
        """A hash of all that decides the matte of a step, acting or not. Raises `BadInput`."""
        return _hashed(f"{self.digest(step)}{self.step(step).reach!r}{self.profile!r}")

    def view_digest(self, step: int) -> str:
        """A hash of all that decides the own views of a step, acting or not. Raises `BadInput`."""
        asked = self.step(step)
        return _hashed(f"{self.digest(step)}{asked.kind}{asked.parameters!r}{self.profile!r}")


def _told_of(profile: NoiseProfile) -> str:
    """All of a profile; one without coherence is told as by releases that knew none: what they kept stays."""
    return profile.model_dump_json(exclude=None if profile.coherence else {"coherence"})


def _hashed(told: str) -> str:
    return hashlib.sha256(told.encode()).hexdigest()[:24]


def plan_from_json(text: str | bytes, where: str = "plan") -> Plan:
    """Read and check a plan document; raises `BadPlan` with one line that names the place."""
    try:
        return Plan.model_validate_json(text)
    except ValidationError as error:
        raise BadPlan(f"{where}: {first_problem(error)}") from error


def plan_schema() -> dict[str, Any]:
    """JSON schema of the plan document, with each treatment's settings under `treatments`."""
    schema = Plan.model_json_schema(by_alias=True)
    schema["treatments"] = {kind: t.parameters.model_json_schema() for kind, t in TREATMENTS.items()}
    return schema
