// The sentences of problems: one name, one text. `{…}` marks a parameter. Names of tables, columns and rows are put in by
// schema/message.ts; `rule`, `place`, `missing` and `says` are themselves named here.

/** What is put into a sentence: by name, as it is shown. A list is shown with commas. */
export type SentenceParameters = Readonly<Record<string, string | number | readonly string[]>>;

/** The default sentences, and the parts of sentences, by name. */
export const sentences = {
  // The value of a column, and the rule that it breaks.
  'value-refused': '{column} {value}: {rule}.',
  'id-refused': 'The id {value} of a row of {table} cannot be used: {rule}.',
  'value-missing': '{column}: a value is required and none was given.',
  'value-assigned': '{column} is given by the server alone; leave it out.',
  'key-column-changed':
    '{column} is a part of the key ({list}) and cannot change; insert a new row and delete this one.',
  'id-not-of-key': 'The id {value} is not made of the key ({list}); leave the id out.',
  'change-too-large': '{column} {value}: a change of a row takes {limit} bytes at most as JSON, and this one has more.',
  'operation-refused': '{column}: {value} is no operation of this column.',
  'operation-and-value': '{column} is both set and operated on.',
  'table-read-only': '{row} cannot be changed here: only the office writes this table.',
  'unknown-column': 'Table {name} has no column {value}; it has id, {list}.',
  required: 'a value is required',
  'text-expected': 'text is expected',
  'no-zero-character': 'text without NUL characters is expected',
  'whole-characters': 'text of whole Unicode characters is expected, this has half of a pair',
  'row-id-expected': 'the id of a row is expected',
  'whole-number-expected': 'a whole number between -(2^53-1) and 2^53-1 is expected',
  'number-expected': 'a finite number is expected',
  'decimal-expected': 'a decimal number as text is expected, such as {example}',
  'decimal-scale': 'at most {limit} digits after the point',
  'decimal-digits': 'at most {limit} digits before the point',
  'big-integer-expected': 'a bigint between -(2^63) and 2^63-1 is expected',
  'true-or-false-expected': 'true or false is expected',
  'time-expected': 'an RFC 3339 time in UTC with milliseconds is expected, as new Date(…).toISOString() gives',
  'day-expected': 'a calendar day YYYY-MM-DD is expected',
  'time-of-day-expected': 'a time of day HH:MM:SS is expected',
  'local-time-expected': 'a day and time YYYY-MM-DDTHH:MM:SS without a time zone is expected',
  'one-of-expected': 'one of {list} is expected',
  'file-expected': 'the description of a file is expected, as saveFile gives it',
  'file-type': 'a file of the types {list} is expected, not {given}',
  'file-size': 'at most {limit} bytes, not {given}',
  'bytes-expected': 'a Uint8Array or a Blob is expected',
  'texts-expected': 'an array of texts is expected',
  'texts-once': 'each text once is expected',
  'json-expected': 'a JSON value is expected',
  'json-levels': 'JSON at most {limit} levels deep is expected',
  'json-numbers': 'JSON has finite numbers only',
  'json-objects': 'plain JSON objects are expected',
  'json-prototype': 'JSON without a member named __proto__ is expected',
  'id-length': 'an id has 1 to {limit} characters',
  minimum: 'minimum {limit}',
  maximum: 'maximum {limit}',
  'least-characters': 'at least {limit} characters, this has {length}',
  'most-characters': 'at most {limit} characters, this has {length}',
  'least-bytes': 'at least {limit} bytes, this has {length}',
  'most-bytes': 'at most {limit} bytes, this has {length}',
  // Several rows.
  'this-row': 'this {table}',
  'duplicate-value': '{values} is taken by another {table}.',
  'no-such-reference': '{column}: {missing}',
  'no-such-row': 'There is no {other} {value} {place}.',
  'no-such-row-unnamed': 'There is no such {other} {place}.',
  'on-this-device': 'on this device',
  'on-the-server': 'on the server',
  'row-referenced': '{row} cannot be deleted: at least one {other} refers to it.',
  'row-referenced-somewhere': '{row} cannot be deleted: something else refers to it.',
  // A row that is no longer the user's.
  'scope-left':
    '{row} is no longer one of your rows; what you typed is kept here. Copy what you need, then take it back.',
} as const;

/** Those that a server alone says. */
export const serverSentences = {
  // What a server refuses.
  'duplicate-id': '{row} is on the server already; update it instead.',
  'id-taken': '{row} cannot be added: its id is taken.',
  'column-not-permitted': '{column} is not yours to write.',
  'row-not-permitted': '{row} would be where you may not see it.',
  'unknown-table': 'The server keeps no table {name}.',
  'unknown-column-there': 'Table {name} has no column {value}.',
  'outcome-unknown':
    'This edit of {time} was sent so long ago that the server no longer knows whether it was applied. Look at the row as it is now, then make the edit again or take it back.',
  'transaction-id-reused':
    'A transaction of this id was taken up before with other changes; a changed transaction needs a new id.',
  'transaction-bytes': 'A transaction takes {limit} bytes at most. Make several of it.',
  'transaction-changes': 'A transaction takes {limit} changes at most. Make several of it.',
  'rule-failed':
    "The server's rule for {table} failed; nothing of this was kept. Tell whoever runs the server, and send it again when that is mended.",
  'action-failed':
    'The server could not carry out "{name}"; nothing of this was kept. Tell whoever runs the server, and send it again when that is mended.',
  // What the server's database refuses.
  'column-refused': '{column} {says}.',
  'column-refused-because': '{column} {says}: {words}.',
  'row-refused': '{row} {says}.',
  'row-refused-because': '{row} {says}: {words}.',
  'reference-at-end':
    'The database found at the end of the transaction that one of its rows refers to a row that is not there, or is still referred to.',
  'refused-at-end': 'The database refused the transaction at its end ({words}).',
  'id-form': "The id {value} is not in the form that the database's {type} has.",
  'is-taken': 'is taken by another row',
  'needs-a-value': 'needs a value',
  'refers-nowhere': 'refers to a row that is not there, or is referred to',
  'out-of-range': 'is out of its range',
  'breaks-a-rule': 'breaks a rule of the table',
  'in-the-way': 'stands in the way of another row',
  'of-another-type': 'has a value of another type',
  'too-long': 'has a value that is too long',
  'number-out-of-range': 'has a number out of the range of its type',
  'time-not-taken': 'has a time that the database does not take',
  'time-out-of-range': 'has a time out of range',
  'character-not-taken': 'has a character that the database does not take',
  'value-not-taken': 'has a value that the database does not take',
  'larger-than-taken': 'is larger than the database takes',
  'refused-by-policy': 'was refused by a policy of the table',
  'given-by-database': 'has a value that only the database gives',
  'refused-by-rule': 'was refused by a rule of the database',
} as const;

/** The name of a sentence, or of a part of one. */
export type SentenceName = keyof typeof sentences;

/** The same of a sentence that a server alone says. */
export type ServerSentenceName = keyof typeof serverSentences;
