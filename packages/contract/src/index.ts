import { alarmRoutes } from './alarms.ts'
import { baselineRoutes } from './baselines.ts'
import { caseRoutes } from './cases.ts'
import { changesRoutes } from './changes.ts'
import { correctionRoutes } from './corrections.ts'
import { custodyRoutes } from './custody.ts'
import { figureRoutes } from './figures.ts'
import { noticingRoutes } from './noticing.ts'
import { packRoutes } from './packs.ts'
import { panelRoutes } from './panel.ts'
import { peopleRoutes } from './people.ts'
import { pulseRoutes } from './pulse.ts'
import { readingsRoutes } from './readings.ts'
import { reconcilingRoutes } from './reconciling.ts'
import { recordRoutes } from './records.ts'
import { reviewRoutes } from './review.ts'
import { sessionRoutes } from './session.ts'
import { todayRoutes } from './today.ts'
import { trackingRoutes } from './tracking.ts'
import { vocabularyRoutes } from './vocabulary.ts'
import { guardRoutes } from './guards.ts'
import { watchRoutes } from './watches.ts'
import { workRoutes } from './work.ts'

/** Every operation of the API by name. */
export const routes = {
  ...sessionRoutes,
  ...vocabularyRoutes,
  ...changesRoutes,
  ...readingsRoutes,
  ...figureRoutes,
  ...recordRoutes,
  ...reviewRoutes,
  ...noticingRoutes,
  ...todayRoutes,
  ...trackingRoutes,
  ...peopleRoutes,
  ...correctionRoutes,
  ...pulseRoutes,
  ...custodyRoutes,
  ...workRoutes,
  ...alarmRoutes,
  ...reconcilingRoutes,
  ...baselineRoutes,
  ...panelRoutes,
  ...packRoutes,
  ...caseRoutes,
  ...guardRoutes,
  ...watchRoutes,
}

export {
  allows,
  permissions,
  permissionsOf,
  roleNames,
  sightOf,
  firstRole,
  usualRole,
  roles,
  type Need,
  type Permission,
  type Role,
} from './permission.ts'
export { problems, ProblemBody, type ProblemCode } from './problem.ts'
export { route, type Method, type RouteShape } from './route.ts'
export { type Action } from './common.ts'
export { Person, Session } from './session.ts'
export { Check, Custody, Erasure, Place, Seal, Witness } from './custody.ts'
export { HeldValues, RecordHits, Vocabulary } from './vocabulary.ts'
export {
  Afterwards,
  Change,
  changeSorts,
  exportColumns,
  exportHeadings,
  Layout,
  mostSorted,
  Reference,
  Save,
  SaveDetail,
  Held,
  RunLine,
  SavePage,
  saveSorts,
  Summary,
  type ChangeSort,
  type ExportColumn,
  type ListName,
  type SaveSort,
} from './changes.ts'
export { BlindSpot, Proof, ProofHead, TypeCoverage } from './tracking-coverage.ts'
export {
  Draft,
  DraftCost,
  DryRun,
  Installation,
  Obstacle,
  PlanVersion,
  TrackedField,
  TrackedType,
  TypeRehearsal,
} from './tracking-plan.ts'
export { StandingCondition } from './records.ts'
export { SourceCheck, SourceMap, isSourceUrl } from './tracking-source.ts'
export { FoundProof, PresentRecord, RecordMark, RecordStory, StandingPage } from './records.ts'
export { Baseline, BaselineComparison, meanings } from './baselines.ts'
export { Difference, ReconciledType } from './reconciling.ts'
export { Application, PanelStory } from './panel.ts'
export { PlanFile } from './plan-file.ts'
export { Activity, ChangeLine, ChangePage, Group, NamedScope, Pairs, RecordLine } from './readings.ts'
export {
  DirectoryEntry,
  DirectoryOutcome,
  EventCount,
  eventKinds,
  Identity,
  SignInRules,
  SpoorEvent,
  SpoorPerson,
  Unmapped,
  type EventKind,
} from './people.ts'
export {
  Correction,
  CorrectionGroup,
  CorrectionHead,
  CorrectionItem,
  Effect,
  overriddenWords,
  Refusal,
} from './corrections.ts'
export { Pulse } from './pulse.ts'
export { NoticingSettings, NoticingTrial, StoryShown } from './noticing.ts'
export { Assignment, Note, Question, SaveReview, Waiting } from './review.ts'
export { Today } from './today.ts'
export { Alarm, alarmCodes, alarmNames, type AlarmCode } from './alarms.ts'
export { Job, jobKinds, type JobKind } from './work.ts'
export { Case, CaseEntry, CaseItem, CaseOpened, CaseThing, caseKinds, type CaseKind } from './cases.ts'
export { Guard, GuardLine, GuardMet, GuardTrial, type GuardBody, type GuardOpening } from './guards.ts'
export { Firing, Holidays, Receiver, Saying, Told, Watch, WatchRule, WatchTrial } from './watches.ts'
export { Pack, PackBeside, PackPreview, RegularPack, packShapes, type PackShape } from './packs.ts'
export { type FigureAnswer, type PivotAnswer, type StaysAnswer } from './figures.ts'
