/** A word of the screen with what it means, for the glossary at hand. */
export interface GlossaryEntry {
  word: string
  group:
    'What is recorded' | 'Who and how' | 'How a field is kept' | 'How far to trust it' | 'Events around the records'
  means: string
}

/** Every word a person meets that is not everyday English, and every kind of event. Alphabetical within its group. */
export const glossary: readonly GlossaryEntry[] = [
  {
    word: 'after',
    group: 'What is recorded',
    means: 'The value a field had once the save was made; marked by a filled disc ●.',
  },
  {
    word: 'before',
    group: 'What is recorded',
    means: 'The value a field had until the save was made; marked by a hollow ring ○.',
  },
  {
    word: 'change',
    group: 'What is recorded',
    means: 'One field of one record going from a value before to a value after. It is what is reviewed and set back.',
  },
  {
    word: 'line',
    group: 'What is recorded',
    means: 'A record that belongs to a parent, such as a line of an order. Its saves are read in the parent’s trail.',
  },
  {
    word: 'record',
    group: 'What is recorded',
    means: 'One row of a table in the business database, known by its key.',
  },
  { word: 'record type', group: 'What is recorded', means: 'A table of the business database.' },
  {
    word: 'run',
    group: 'What is recorded',
    means:
      'Saves that belong together: one transaction over many records, one import or script that says its name, or a burst by the same hands with less than a minute between saves.',
  },
  {
    word: 'save',
    group: 'What is recorded',
    means:
      'All the changes that one transaction made to one record, with who, when, by which channel and why. A record created, changed or deleted is a save.',
  },
  {
    word: 'story',
    group: 'What is recorded',
    means: 'Something that stands out, told once with every reason for it, however many saves it is about.',
  },
  {
    word: 'actor',
    group: 'Who and how',
    means: 'Who made a save: a person, an import, a scheduled job, an integration, a support delegate, or unknown.',
  },
  {
    word: 'channel',
    group: 'Who and how',
    means: 'How a save came in: screen, API, import, job, correction, or direct SQL when nobody said.',
  },
  {
    word: 'claimed',
    group: 'Who and how',
    means: 'The actor was named by a login that is not allowed to say who acts. The name is kept, and so is the doubt.',
  },
  { word: 'delegate', group: 'Who and how', means: 'Somebody who acts for a person, such as the supplier’s support.' },
  {
    word: 'unknown',
    group: 'Who and how',
    means: 'Nobody said who acts, and the database login is not mapped to anybody.',
  },
  {
    word: 'asked',
    group: 'How a field is kept',
    means: 'A reason is expected with each save; one without it is kept and says that none was given.',
  },
  {
    word: 'derived from',
    group: 'How a field is kept',
    means: 'The field follows from others of the record. Where both change in one save, it is folded under its cause.',
  },
  {
    word: 'fingerprint',
    group: 'How a field is kept',
    means:
      'Only that the field changed is kept, with a keyed hash that shows later whether two values were equal, and never the value.',
  },
  {
    word: 'lock',
    group: 'How a field is kept',
    means: 'Keeps a field tracked until a day, or for good. Nobody can switch it off inside Spoor.',
  },
  {
    word: 'erased',
    group: 'How far to trust it',
    means:
      'Before and after were taken out for good, as the law wanted. That it was changed, by whom and when stays, and the save still proves.',
  },
  {
    word: 'masked',
    group: 'How a field is kept',
    means: 'Before and after are kept and shown as dots. Whoever may can reveal them, and each reveal is recorded.',
  },
  {
    word: 'required',
    group: 'How a field is kept',
    means: 'The business database refuses a save that gives no reason, with words for whoever made it.',
  },
  { word: 'sensitive', group: 'How a field is kept', means: 'Setting the field back takes a second person.' },
  {
    word: 'values',
    group: 'How a field is kept',
    means: 'Before and after are kept, exactly as the database holds them.',
  },
  {
    word: 'blind spot',
    group: 'How far to trust it',
    means:
      'Rows that the business database says were written, of which nothing reached the ledger, because what changed there is not tracked.',
  },
  {
    word: 'coverage',
    group: 'How far to trust it',
    means: 'The spells in which a field was tracked. What happened outside them is unknown, not absent.',
  },
  {
    word: 'gap',
    group: 'How far to trust it',
    means: 'A spell between two spells of coverage, in which changes were made that nobody will ever see.',
  },
  {
    word: 'plan',
    group: 'How far to trust it',
    means: 'What is tracked and how. Each version says who put it in force, when and why.',
  },
  {
    word: 'leaf',
    group: 'How far to trust it',
    means: 'The place of a save in the ledger’s tree, and the digest that stands there for all that is kept of it.',
  },
  {
    word: 'proof',
    group: 'How far to trust it',
    means:
      'Every tracked field is really changed in the business database, inside a transaction that is rolled back, to see whether an entry appears.',
  },
  {
    word: 'blacked out',
    group: 'How far to trust it',
    means: 'Left out of an evidence pack, with a reason; that there is a value, and the proof of it, stays.',
  },
  {
    word: 'evidence pack',
    group: 'How far to trust it',
    means:
      'One file that is handed over: the changes in a scope to be read, and what proves them to somebody who has neither Spoor nor reason to trust it.',
  },
  {
    word: 'seal',
    group: 'How far to trust it',
    means:
      'A signed statement, made each minute, of how many saves the ledger has and what their digests come to. Nothing under a seal can be altered unnoticed.',
  },
  {
    word: 'time-stamp',
    group: 'How far to trust it',
    means: 'What an authority outside signs: that it saw the digest of an evidence pack, and when.',
  },
  {
    word: 'correction',
    group: 'Events around the records',
    means: 'A plan that sets values back was drafted, rehearsed or applied.',
  },
  {
    word: 'custody',
    group: 'Events around the records',
    means: 'The ledger was checked against its seals, was found altered, or an alarm about it was settled.',
  },
  {
    word: 'directory',
    group: 'Events around the records',
    means: 'The staff list was read, or a login was mapped to somebody.',
  },
  { word: 'export', group: 'Events around the records', means: 'Somebody took changes out of Spoor as a file.' },
  {
    word: 'person',
    group: 'Events around the records',
    means: 'Somebody was given access to Spoor, or their role or reach was changed.',
  },
  {
    word: 'noticing',
    group: 'Events around the records',
    means: 'It was changed for which reasons Spoor says that something stands out.',
  },
  {
    word: 'erasure',
    group: 'Events around the records',
    means: 'Somebody asked that values be erased by law, or decided it.',
  },
  { word: 'reveal', group: 'Events around the records', means: 'Somebody looked at the values of a masked field.' },
  {
    word: 'review',
    group: 'Events around the records',
    means:
      'Saves were marked, noted, assigned or asked about, a question was answered, or something that stood out was settled.',
  },
  {
    word: 'watch',
    group: 'Events around the records',
    means: 'It was changed who is told of what comes.',
  },
  {
    word: 'sign-in',
    group: 'Events around the records',
    means: 'Somebody signed in to Spoor, was refused, or signed out.',
  },
  {
    word: 'source',
    group: 'Events around the records',
    means: 'A business database was connected, or its address or description was changed.',
  },
  {
    word: 'tracking',
    group: 'Events around the records',
    means: 'A draft was proposed, sent back or put in force, or the recording was proved.',
  },
]
