/** Something about a table that keeps its changes out of the feed, or did so for a time. */
export interface TrackingFault {
  readonly table: string;
  readonly message: string;
  /** Tells whether it is mended: then all rows of the table are sent anew, since nobody knows what was written meanwhile. */
  readonly isRepaired: boolean;
}

/** The fault of a table whose triggers somebody has dropped, disabled or changed. */
export function triggersTouched(table: string, failure?: string): TrackingFault {
  return failure === undefined
    ? {
        table,
        message: `The triggers that follow ${table} were dropped, disabled or changed for a time. They are as they should be again; all rows of ${table} are sent anew, since nobody knows what was written meanwhile.`,
        isRepaired: true,
      }
    : {
        table,
        message: `The triggers that follow ${table} are dropped, disabled or changed, and cannot be put back (${failure}). Devices are not told of what other programs write. Put them back ("koinon ddl" prints them), then run "koinon resend-all".`,
        isRepaired: false,
      };
}

/** The fault of a table that is not what it was when the server started. */
export function tableChanged(table: string, what: string): TrackingFault {
  return {
    table,
    message: `The table ${table} ${what} since the server started; its rows cannot be served so. Put it back as it was, or start the server with a schema that fits.`,
    isRepaired: false,
  };
}

/** The fault of a table of which rows came or went while nothing followed it. */
export function unfollowed(table: string, unknown: number, gone: number): TrackingFault {
  return {
    table,
    message: `Rows of ${table} came (${unknown} of those that were looked at) or went (${gone}) while nothing followed the table; devices do not know. "koinon resend-all" sends all rows anew.`,
    isRepaired: false,
  };
}

/** The fault of a view with rows that no device can be given, since a row is known by its key. */
export function brokenView(table: string, view: string, what: string): TrackingFault {
  return {
    table,
    message: `The view ${view} of ${table} ${what}. Devices keep the rows they have, and are not told of these. Give each row of the view a key of its own.`,
    isRepaired: false,
  };
}

/** The fault of a view that the database could not read: the words are the database's own. */
export function unreadableView(table: string, view: string, error: unknown): TrackingFault {
  return {
    table,
    message: `The view ${view} of ${table} cannot be read (${(error as Error).message}). Devices keep the rows they have, and are told of nothing new. Mend the view; it is looked at again when the database changes.`,
    isRepaired: false,
  };
}

/** A table that was served before is not there: made anew, it would be empty on every device. */
export const goneTable =
  'was served before and is gone; put it back from a backup. If its rows are to be deleted on all devices, make it anew and run "koinon resend-all"';
