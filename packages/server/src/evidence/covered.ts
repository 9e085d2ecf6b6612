/** A table whose rows somebody relies on, so that each of them is under the seals. */
export interface CoveredRows {
  table: string
  /** What a row of it is to a person. */
  noun: string
  /** The columns that tell its rows apart, with their types. */
  key: Readonly<Record<string, string>>
  /** What is under the seal of a row. Columns that nobody relies on, as when somebody was last seen, are left out. */
  columns: readonly string[]
  /** Groups that have to be looked at again when a row changes: whether they count depends on it. */
  decides?: readonly string[]
}

/** A table whose rows only mean something together: those of one parent are under the seal as one. */
export interface CoveredGroup {
  table: string
  noun: string
  parent: string
  columns: readonly string[]
  /** A condition on `t`, a row of the table; what it leaves out is not relied on yet. */
  only?: string
}

const list = (...names: string[]) => names.join(' ').split(' ')

export const coveredRows: readonly CoveredRows[] = [
  {
    table: 'spoor.person',
    noun: 'access of person',
    key: { id: 'int' },
    columns: list('login name role password_hash actor_id disabled_at created_at reach reach_from reach_until'),
  },
  {
    table: 'spoor.actor',
    noun: 'entry of the directory',
    key: { id: 'int' },
    columns: list('kind name login unit joined_on left_on in_directory directory_id same_as'),
  },
  {
    table: 'spoor.former_name',
    noun: 'former name',
    key: { kind: 'text', name: 'text' },
    columns: list('actor_id until_at'),
  },
  {
    table: 'spoor.identity',
    noun: 'identity',
    key: { id: 'int' },
    columns: list('source_id by said actor_id for_actor_id from_on until_on'),
  },
  { table: 'spoor.setting', noun: 'setting', key: { name: 'text' }, columns: list('value') },
  { table: 'spoor.source', noun: 'source', key: { id: 'int' }, columns: list('name url_sealed created_at epoch') },
  {
    table: 'spoor.source_login',
    noun: 'trust in the login',
    key: { source_id: 'int', login: 'text' },
    columns: list('may_declare own'),
  },
  {
    table: 'spoor.record_type',
    noun: 'record type',
    key: { id: 'int' },
    columns: list(
      'source_id relation_id schema_name table_name name plural area comment key_columns',
      'label_columns obstacle present parent_type_id parent_columns foreign_keys described',
      'effective_field_id page_pattern',
    ),
  },
  {
    table: 'spoor.field',
    noun: 'field',
    key: { id: 'int' },
    columns: list(
      'type_id attribute_number column_name name data_type base_type comment part_of_key generated',
      'present first_seen_at refers_to described unseen_at',
    ),
  },
  {
    table: 'spoor.plan_version',
    noun: 'version of the tracking plan',
    key: { source_id: 'int', version: 'int' },
    columns: list('plan state reason put_by put_at approved_by installed fitted'),
  },
  {
    table: 'spoor.taking',
    noun: 'taking in of what was found',
    key: { id: 'int' },
    columns: list('source_id type_id plan_version field_ids began_at records state ended_at root'),
  },
  {
    table: 'spoor.coverage',
    noun: 'spell of coverage',
    key: { id: 'bigint' },
    columns: list('field_id keep from_at to_at ended_because'),
  },
  {
    table: 'spoor.proof',
    noun: 'proof that it records',
    key: { id: 'int' },
    columns: list('source_id plan_version at by'),
  },
  { table: 'spoor.note', noun: 'note', key: { id: 'bigint' }, columns: list('save_id text by at') },
  { table: 'spoor.mark', noun: 'mark', key: { save_id: 'bigint', mark: 'text' }, columns: list('by at') },
  {
    table: 'spoor.assignment',
    noun: 'assignment',
    key: { id: 'int' },
    columns: list('assigned_to due_on note by at done_by done_at'),
  },
  {
    table: 'spoor.question',
    noun: 'question',
    key: { id: 'int' },
    columns: list('actor_id text by at answer answered_by answered_at'),
  },
  {
    table: 'spoor.case_file',
    noun: 'case',
    key: { id: 'int' },
    columns: list('question owner_id opened_by opened_at state finding closed_by closed_at'),
  },
  {
    table: 'spoor.case_item',
    noun: 'thing gathered in a case',
    key: { id: 'bigint' },
    columns: list(
      'case_id save_id type_id record_key pack_id correction_id question_id note_id gathered_by gathered_at removed_by',
      'removed_at removed_why',
    ),
  },
  {
    table: 'spoor.case_entry',
    noun: 'entry of a case',
    key: { id: 'bigint' },
    columns: list('case_id kind text by at'),
  },
  {
    table: 'spoor.witnessed',
    noun: 'seal given to a witness',
    key: { id: 'bigint' },
    columns: list('witness_id seal_number at answer'),
  },
  {
    table: 'spoor.receiver',
    noun: 'receiver',
    key: { id: 'int' },
    columns: list('name url_sealed place secret_sealed older_sealed older_until inside made_by made_at ended_at'),
  },
  {
    table: 'spoor.watch',
    noun: 'watch',
    key: { id: 'int' },
    columns: list('scope fires speaks quiet zone people mail receivers owner_id made_at state state_why removed_at'),
  },
  {
    table: 'spoor.regular_pack',
    noun: 'regular pack',
    key: { id: 'int' },
    columns: list('wish rhythm mail owner_id made_at ended_at ended_by'),
  },
  { table: 'spoor.named_scope', noun: 'named scope', key: { id: 'int' }, columns: list('name scope owner shared') },
  {
    table: 'spoor.noticing',
    noun: 'rules of noticing',
    key: { sole: 'boolean' },
    columns: list('settings changed_by'),
  },
  {
    table: 'spoor.story',
    noun: 'story',
    key: { id: 'int' },
    columns: list(
      'story reasons saves records from_at to_at found_at actors types settled_by settled_at',
      'settled_why',
    ),
  },
  {
    table: 'spoor.correction',
    noun: 'correction',
    key: { id: 'int' },
    columns: list(
      'source_id state drafted_by drafted_at applied_by applied_at reason trial asked left_out',
      'along proposed_by proposed_at proposed_reason sent_back_by sent_back_words',
      'handed_by handed_at repeats',
    ),
    decides: ['spoor.correction_item', 'spoor.correction_change'],
  },
  {
    table: 'spoor.application',
    noun: 'access of the application',
    key: { id: 'int' },
    columns: list('name origin key_hash made_by made_at ended_at'),
  },
  {
    table: 'spoor.baseline',
    noun: 'baseline',
    key: { id: 'int' },
    columns: list('name type_id at field_ids meant whole made_by made_at why state records digest'),
  },
  {
    table: 'spoor.erasure',
    noun: 'erasure',
    key: { id: 'int' },
    columns: list(
      'save_id type_id record_key label field_id reach reason asked_by asked_at state decided_by',
      'decided_at answer',
    ),
  },
  {
    table: 'spoor.alarm',
    noun: 'alarm',
    key: { id: 'bigint' },
    columns: list(
      'source_id code place words raised_at check_id save_id field_id stored expected after_seal before_seal',
      'over_at settled_by settled_at settled_why',
    ),
  },
  {
    table: 'spoor.difference',
    noun: 'difference',
    key: { id: 'int' },
    columns: list(
      'type_id record_key label field_id kind trail source cut after_at seen_at over_at settled_by settled_at',
      'settled_why taking_job',
    ),
  },
  {
    table: 'spoor.ledger_check',
    noun: 'check of the ledger',
    key: { id: 'int' },
    columns: list('began_at ended_at asked_by found trouble'),
  },
  { table: 'ledger.signing_key', noun: 'signing key', key: { number: 'int' }, columns: list('since line note') },
]

const decided = `exists (select from spoor.correction c where c.id = t.correction_id and c.state <> 'draft')`

export const coveredGroups: readonly CoveredGroup[] = [
  {
    table: 'spoor.baseline_signature',
    noun: 'list of signatures of baseline',
    parent: 'baseline_id',
    columns: list('person_id meaning note signed_at'),
  },
  {
    table: 'spoor.proof_field',
    noun: 'list of fields of proof',
    parent: 'proof_id',
    columns: list('type_id field_id outcome words'),
  },
  {
    table: 'spoor.assignment_save',
    noun: 'list of saves of assignment',
    parent: 'assignment_id',
    columns: list('save_id'),
  },
  { table: 'spoor.question_save', noun: 'list of saves of question', parent: 'question_id', columns: list('save_id') },
  { table: 'spoor.story_save', noun: 'list of saves of story', parent: 'story_id', columns: list('save_id') },
  {
    table: 'spoor.correction_item',
    noun: 'list of values of correction',
    parent: 'correction_id',
    columns: list(
      'id type_id record_key label field_id save_id found now target state why choice written',
      'erased since_save act merged',
    ),
    only: decided,
  },
  {
    table: 'spoor.correction_change',
    noun: 'list of changes set back by correction',
    parent: 'correction_id',
    columns: list('save_id field_id item_id'),
    only: decided,
  },
]
