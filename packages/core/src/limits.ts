/** Limits both sides keep to. */
export const limits = {
  /** Transactions in one push. */
  transactions: 500,
  /** Changes in one push, over all its transactions. */
  changes: 100_000,
  /** Changes in one transaction, over all its parts. */
  transactionChanges: 1_000_000,
  /** Parts of one transaction, and the bytes of all of them, about: it is in memory as a whole when it is applied. */
  parts: 10_000,
  transactionBytes: 256 * 1024 * 1024,
  /** Actions in one transaction, and the rows that one of them refers to. */
  actions: 100,
  actionRows: 1_000,
  /** Bytes of one push. */
  requestBytes: 64 * 1024 * 1024,
  /** Bytes of a request that asks for something: a pull, say. */
  questionBytes: 4 * 1024 * 1024,
  /** Bytes of the name of a table or column, as PostgreSQL has them. */
  nameBytes: 63,
  /** Characters of an id of a row. */
  idLength: 200,
  /** Bytes of one change of one row, as JSON carries it: it goes up in one request, and comes down in one answer. */
  changeBytes: 32 * 1024 * 1024,
  /** Bytes of the content of a file, where its column says no other number. */
  fileBytes: 1_000_000_000,
  /** Bytes of one answer, before compression. */
  answerBytes: 128 * 1024 * 1024,
  /** Rows in one page of a pull; a request may ask for fewer. */
  pageRows: 5_000,
  /** Deleted rows in one answer. */
  trashedRows: 1_000,
  /** Transactions that a pull may ask about, and that one pushed transaction may depend on. */
  ownTransactions: 10_000,
  /** Origins that one request names. */
  origins: 10_000,
} as const;
