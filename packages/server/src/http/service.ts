import type { UserConnections } from '../auth/connections.ts';
import type { EffectJob } from '../effects/job.ts';
import type { Hub } from '../realtime/hub.ts';
import type { RuleSet } from '../rules/rules.ts';
import type { ScopeSet } from '../scope/evaluate.ts';
import type { RetentionJob } from '../store/retention-job.ts';
import type { Store } from '../store/store.ts';
import type { Admission } from './admission.ts';
import type { HeldRequests } from './held-requests.ts';
import type { Moved } from './options.ts';
import type { WaitingLine } from './waiting-line.ts';

/** The parts that the routes of one server share. */
export interface Service {
  readonly store: Store;
  readonly admission: Admission;
  readonly scopes: ScopeSet;
  readonly rules: RuleSet;
  readonly effects: EffectJob;
  readonly hub: Hub;
  readonly line: WaitingLine;
  readonly held: HeldRequests;
  readonly retention: RetentionJob;
  readonly userConnections: UserConnections;
  readonly observe: (moved: Moved) => void;
  /** Writes into the log for those who look for a fault. */
  readonly debug: (of: object, message: string) => void;
}
