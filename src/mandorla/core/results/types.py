"""Types of the results, for those that show them; nothing is loaded at run time."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from mandorla.core.energy.course import PlugCourse as PlugCourse
    from mandorla.core.energy.reserve import OnBackup as OnBackup
    from mandorla.core.energy.stagger import Stagger as Stagger
    from mandorla.core.energy.use import Difference as Difference
    from mandorla.core.energy.use import EnergyUse as EnergyUse
    from mandorla.core.failure.registry import Assessment as Assessment
    from mandorla.core.failure.registry import Judgement as Judgement
    from mandorla.core.failure.rig_checks import RigCheck as RigCheck
    from mandorla.core.failure.state import LimitCheck as LimitCheck
    from mandorla.core.measure.compare import Comparison as Comparison
    from mandorla.core.measure.compare import Series as Series
    from mandorla.core.measure.correct import Corrected as Corrected
    from mandorla.core.measure.exercise import Exercise as Exercise
    from mandorla.core.measure.fit import RigFit as RigFit
    from mandorla.core.measure.heights import HeightMap as HeightMap
    from mandorla.core.measure.image import SeenMap as SeenMap
    from mandorla.core.measure.logs import LogData as LogData
    from mandorla.core.measure.observe import SurfacePlace as SurfacePlace
    from mandorla.core.part.features import Feature as Feature
    from mandorla.core.part.gcode import PrintFile as PrintFile
    from mandorla.core.part.geometry import PartGeometry as PartGeometry
    from mandorla.core.results.energy import ComparedEnergy as ComparedEnergy
    from mandorla.core.results.energy import Money as Money
    from mandorla.core.results.first_layer import FirstLayerShown as FirstLayerShown
    from mandorla.core.results.first_layer import LineLook as LineLook
    from mandorla.core.results.heat import HeatBalance as HeatBalance
    from mandorla.core.results.heat import OverAir as OverAir
    from mandorla.core.results.heat import PlateFlatness as PlateFlatness
    from mandorla.core.results.heat import Regulation as Regulation
    from mandorla.core.results.part import MovedMass as MovedMass
    from mandorla.core.results.plates import PlateUse as PlateUse
    from mandorla.core.results.strategies import MachineRank as MachineRank
    from mandorla.core.results.strategies import StrategyFound as StrategyFound
    from mandorla.core.results.suggestions import SettingsCheck as SettingsCheck
    from mandorla.core.results.suggestions import Suggested as Suggested
    from mandorla.core.results.verify import ImageOnBed as ImageOnBed
    from mandorla.core.results.verify import MiddleOfImage as MiddleOfImage
    from mandorla.core.results.verify import ReadingsTable as ReadingsTable
    from mandorla.core.results.verify import ReadLog as ReadLog
    from mandorla.core.results.verify import SessionHeights as SessionHeights
    from mandorla.core.results.warp import CausesAndLevers as CausesAndLevers
    from mandorla.core.results.warp import Compensated as Compensated
    from mandorla.core.results.warp import ExpectedTimes as ExpectedTimes
    from mandorla.core.results.warp import ShapeVariant as ShapeVariant
    from mandorla.core.thermal.advice import SetPoints as SetPoints
    from mandorla.core.thermal.build_differences import BuildDifference as BuildDifference
    from mandorla.core.thermal.faults import FaultRun as FaultRun
    from mandorla.core.thermal.heatup import HeatUp as HeatUp
    from mandorla.core.thermal.pid_tuning import PidTuning as PidTuning
    from mandorla.core.thermal.pid_tuning import Regulated as Regulated
    from mandorla.core.thermal.program import ProgramRun as ProgramRun
    from mandorla.core.thermal.surface_history import SurfaceHistory as SurfaceHistory
    from mandorla.core.thermal.uncertainty_bands import CurveBands as CurveBands
    from mandorla.core.tune.levers import Cause as Cause
    from mandorla.core.tune.levers import Lever as Lever
    from mandorla.core.tune.levers import Openers as Openers
    from mandorla.core.tune.operating_point import Evaluation as Evaluation
    from mandorla.core.tune.suggestion import Suggestion as Suggestion
    from mandorla.core.tune.window_map import Point as Point
    from mandorla.core.tune.window_map import Window as Window
    from mandorla.core.warp.batch import Batch as Batch
    from mandorla.core.warp.condensed_plate import PlateLift as PlateLift
    from mandorla.core.warp.fe_result import FullRun as FullRun
    from mandorla.core.warp.first_layer import FirstLayerState as FirstLayerState
    from mandorla.core.warp.first_layer import GapMap as GapMap
    from mandorla.core.warp.learned import Learned as Learned
    from mandorla.core.warp.measured_part import Agreement as Agreement
    from mandorla.core.warp.simulated_trials import Drawn as Drawn
    from mandorla.core.warp.trials import TrialShown as TrialShown
