export {
  firesWords,
  hasScope,
  isOn,
  lastTurn,
  moveOf,
  nextSpeaking,
  pairBucket,
  pairOf,
  speaksWords,
  watchBucket,
  watchedWords,
  watchMoves,
  watchSentence,
  watchSpells,
  type QuietHours,
  type WatchDays,
  type WatchFires,
  type WatchMove,
  type WatchSpeaks,
  type WatchSpell,
} from './watch/rule.ts'
export { comparedDays, type ComparedDays } from './watch/compared.ts'
export { daysWords, weekday, weekdayPlural, weekdayWords } from './time/weekday.ts'
export { pageAddress, patternTrouble } from './record/page-address.ts'
export { assertNever } from './words/assert-never.ts'
export { groupBy } from './words/group.ts'
export { capitalised, counted, grouped, listed, spoken } from './words/list.ts'
export { instantOfMicros, microsOf } from './time/micros.ts'
export {
  addDays,
  atWallClock,
  isDate,
  isZone,
  startOfDay,
  wallClock,
  clockWords,
  wallClockText,
  type WallClock,
} from './time/zone.ts'
export { arrayLiteral, arrayMembers } from './value/array.ts'
export { addDecimals, difference, isDecimal, isMore, rise, type Difference } from './value/difference.ts'
export { valueKind, type CapturedValue, type ValueKind } from './value/type.ts'
export { matches, type ScopedChange } from './scope/evaluate.ts'
export {
  actorKinds,
  changeStates,
  everything,
  casesOf,
  groupsOf,
  isHollow,
  partsOf,
  scopeActions,
  settled,
  transactionsOf,
  withMembers,
  withPair,
  withPart,
  withoutPart,
  type ActorKind,
  type ChangeState,
  type ClockPart,
  type HeldTest,
  type HoldsPart,
  type HowPart,
  type PartName,
  type ReasonPart,
  type RecordPart,
  type RecordRef,
  type Scope,
  type ScopeAction,
  type ScopePart,
  type Span,
  type StatePart,
  type ValuePart,
  type ValueTest,
  type WhatPart,
  type WhenPart,
  type WhoGroup,
  type WhoPart,
} from './scope/model.ts'
export {
  dateText,
  groupWords,
  kindPlural,
  sentence,
  sentenceText,
  type ScopeNames,
  type SentencePiece,
} from './scope/sentence.ts'
export { daysOf, instantsOf, spanAround, type Instants } from './scope/span.ts'
export { canonicalKey, parseScope, scopeEntries, withHeld, type ParsedScope, type ScopeProblem } from './scope/url.ts'
export {
  comparePlans,
  editsBetween,
  emptyPlan,
  fieldDifferences,
  fieldPlan,
  guardDifferences,
  guardsOf,
  isFieldEdit,
  isGuardEdit,
  isPlanRuleEdit,
  isRuleEdit,
  keepOf,
  reasonOf,
  rulesOf,
  stricter,
  threeState,
  withEdits,
  type FieldDifference,
  type FieldEdit,
  type FieldPlan,
  type GuardEdit,
  type Keep,
  type KeepOrOff,
  type Lock,
  type FailureRule,
  type FoundRule,
  type NewColumnRule,
  type PlanDifference,
  type PlanEdit,
  type PlanRuleEdit,
  type ReasonRule,
  type TypeRules,
  type RuleEdit,
  type ThreeState,
  type TrackingPlan,
  type TypePlan,
} from './plan/model.ts'
export {
  absent,
  compareInstants,
  sameHolding,
  type CoverageSpell,
  type FoundValue,
  type Hidden,
  type Holding,
  type Trail,
  type TrailChange,
  type TrailSave,
  type WhyUnknown,
} from './state/trail.ts'
export { fieldsOf, savesBetween, trailOf, type ToldStory } from './state/told.ts'
export { differences, segmentAt, stateAt, timelineOf, timelinesOf, type Segment } from './state/timeline.ts'
export { replayed, unapplied, type KeyedSave, type Records } from './state/replay.ts'
export {
  holdingNow,
  isOfFound,
  stand,
  withFound,
  type ComesAfter,
  type Standing,
  type StandingFound,
  type StandingSave,
  type Standings,
  type Stood,
} from './state/standing.ts'
export { contested, placesAfter, recordPlace, type ContestedPlace } from './capture/order.ts'
export { foldRows, type CapturedRow, type Delta, type SaveAction } from './capture/fold.ts'
export { composedLabel, keyOfOne, valueOfOne, namedBy, type LabelParts } from './capture/label.ts'
export { runKey, runWords, type RunKey, type RunKind, type RunnableSave } from './capture/run.ts'
export {
  following,
  invertWrites,
  itemPlace,
  itemsOfChanges,
  placeOfRecord,
  rehearse,
  writesOf,
  type Act,
  type BlockReason,
  type Choice,
  type Chosen,
  type CurrentValue,
  type GuardedWrite,
  type RehearsedItem,
  type RehearsedState,
  type RevertedChange,
  type RevertItem,
} from './revert/plan.ts'
export { actsOf, recordsReferred, type RecordAct, type Reference } from './revert/acts.ts'
export { mergedValue } from './revert/merge.ts'
export {
  fieldsOfGuard,
  guardActs,
  guardMeets,
  guardSentence,
  guardTrouble,
  sameGuard,
  testFits,
  type Guard,
  type GuardAct,
  type GuardBy,
  type GuardedSave,
  type GuardTest,
  type GuardTimes,
} from './guard/rule.ts'
export { lockHolds, lockWords, planTroubles, troubleWords, type PlanTrouble } from './plan/troubles.ts'
export { planLines, type PlanLine } from './plan/words.ts'
export {
  planFromFile,
  planToFile,
  type PlanFile,
  type PlanFileField,
  type PlanFileGuard,
  type PlanFileType,
  type PlanRegister,
  type UnknownName,
} from './plan/file.ts'
export {
  activityBetween,
  planImpact,
  type ActivityRate,
  type ActivityReading,
  type PlanLoad,
  type TypeActivity,
} from './plan/impact.ts'
export { glossary, type GlossaryEntry } from './words/glossary.ts'
export { bucketAfter, bucketFor, bucketStart, type BucketSize } from './time/bucket.ts'
export { unusual } from './time/usual.ts'
export { namedSpans } from './scope/word-times.ts'
export { readWords, type ReadWords, type WordContext, type WordPiece } from './scope/plain-words.ts'
export { type WordVocabulary } from './scope/word-entries.ts'
export { jsonDifferences, textParts, type JsonDifference, type TextPart } from './value/detail.ts'
export {
  ruleNames,
  type FieldFacts,
  type Figures,
  type NoticedChange,
  type NoticedSave,
  type NoticingWorld,
  type Parameter,
  type Rule,
  type RuleName,
} from './insight/model.ts'
export {
  newState,
  Noticer,
  parametersOf,
  type NoticingSettings,
  type NoticingState,
  type Reason,
  type RuleSetting,
  type Story,
} from './insight/notice.ts'
export { rules } from './insight/rules.ts'
export { digestSentences, digestText, type DigestFigures, type DigestPiece } from './insight/digest.ts'
export { inWords, reasonWords, spellWords, storyHeadline, toldStory, type StoryNames } from './insight/words.ts'
export { canonicalJson, type Json } from './proof/canonical.ts'
export {
  fromBase64,
  fromHex,
  joinBytes,
  sameBytes,
  toBase64,
  toHex,
  type Sha256,
  type Sha256Hex,
} from './proof/bytes.ts'
export {
  canonicalSave,
  changeDigest,
  sidesAltered,
  commitment,
  commitmentsOf,
  leafText,
  sideSalt,
  type Commitments,
  type ProvedSave,
  type Side,
} from './proof/leaf.ts'
export {
  canonicalFound,
  foundSalt,
  foundSalts,
  proveFound,
  readTakingWords,
  takingWords,
  type FoundRecord,
  type HandedFound,
} from './proof/found.ts'
export { setAsideWords, type SetAside } from './proof/set-aside.ts'
export { erasureList, erasureMark, type ErasedChange, type ErasedFound } from './proof/erasure.ts'
export {
  answered,
  consistencyProof,
  fetched,
  inclusionProof,
  innerHash,
  provesConsistency,
  provesInclusion,
  rootOf,
  GrowingRoot,
  type Asking,
  type NodeAddress,
} from './proof/merkle.ts'
export {
  chainBegin,
  chained,
  checkpointText,
  keyFingerprint,
  keyId,
  keyLine,
  readCheckpoint,
  readKeyLine,
  readNote,
  signatureBy,
  signedNote,
  type Checkpoint,
  type Note,
  type NoteKey,
} from './proof/checkpoint.ts'
export { field, leafIndex, openingsOf, parsed, text } from './proof/handed.ts'
export { FilledRoot, fillingNodes } from './proof/filling.ts'
export {
  archiveEnd,
  contentAt,
  entryDescriptor,
  entryHead,
  isPacked,
  largestArchive,
  readDirectory,
  type PackEntry,
  type PartedFile,
} from './pack/archive.ts'
export {
  checkPack,
  leafDigits,
  type Hasher,
  type PackFinding,
  type PackReport,
  type PackTools,
  type TimeStamp,
} from './pack/check.ts'
export { coverHeading, coverRows, howToCheck, type CoverRow, type PackCover } from './pack/cover.ts'
export {
  bagDeclaration,
  manifestText,
  notAskedFor,
  packFiles,
  packStatementText,
  readManifest,
  readPackStatement,
  savesHeading,
  type PackStatement,
} from './pack/form.ts'
export { findingWords, packRules, reportLines, verdictWords } from './pack/report.ts'
export { proveSave, proveSeal, type HandedSave, type Opening, type ProofStep, type ProofTools } from './proof/prove.ts'
export {
  dimensions,
  firstWork,
  heldFieldOf,
  heldFieldsOf,
  lifeFieldsOf,
  measures,
  mostRows,
  parseWork,
  readStayBy,
  workText,
  type Dimension,
  type FigureWork,
  type FixedDimension,
  type Measure,
  type PivotWork,
  type StayBy,
  type StaysWork,
  type Work,
  type WorkForm,
} from './figures/work.ts'
export {
  needsAmounts,
  needsValues,
  dimensionText,
  measureWords,
  ofDifferences,
  ordered,
  standsOut,
  withEmpty,
} from './figures/pivot.ts'
export { longestMember, partOfDimension, scopeOfMember, type CellWorld } from './figures/cell.ts'
export { amountText, durationText, shareOf } from './figures/amount.ts'
export { currencyFieldOf, lifeWhile, severalCurrencies, type NamedColumn } from './figures/currency.ts'
export {
  figureAt,
  figureMoves,
  lifeOf,
  spellAt,
  meanOf,
  type FigureMoves,
  type FigurePoint,
  type Life,
  type LifeSpell,
} from './figures/over-time.ts'
export { figureParts, scopeOfPart, type FigurePart, type LifeSave } from './figures/parts.ts'
export {
  durationsOf,
  groupOfStay,
  scopeOfStays,
  scopeOfValues,
  staysFor,
  stepsOf,
  type Stay,
  type StayGroup,
} from './figures/stays.ts'
export { beforeAndAfter, readFigures, type LoadedFigure } from './figures/loaded.ts'
export { memberWords, pivotWords, workWords } from './figures/words.ts'
export {
  lastDayOfMonth,
  lastMaking,
  makingsDue,
  nextMaking,
  rhythmSpells,
  rhythmWords,
  scopeOfTurn,
  type Rhythm,
  type Turn,
} from './pack/rhythm.ts'
export { unusualDays, usualBefore, usualDays, type SavesOfDay } from './watch/usual.ts'
