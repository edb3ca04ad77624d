import type { WireColumns } from '@koinon/core';
import type { Consulted } from '../scope/evaluate.ts';
import { ConditionIndex } from '../scope/index.ts';
import type { View } from '../scope/view.ts';
import type { Changed, Store } from '../store/store.ts';
import type { Follower } from './hub.ts';

/** One who follows with others of the same scope. */
export interface Member {
  readonly group: Group;
  readonly consulted: readonly Consulted[];
  /** The tables that he queries, with the rows of them that he may read. */
  readonly queried: readonly Consulted[];
  /** The cursor it holds. Nothing that concerns it has come since. */
  token: string;
  /** Tells whether something has come since that it does not wait for, and has not been sent. */
  isWaiting: boolean;
}

/** Those who may have the same rows and columns: what they are told is made once for all of them. */
export interface Group {
  readonly view: View;
  readonly followers: Set<Follower>;
}

/** What he may have who comes to stand there. */
export interface Entering extends Pick<Member, 'consulted' | 'queried'> {
  readonly view: View;
}

/** All who stand where the hub stands, found by their scopes, by what those were made from, and by their replicas. */
export class Members {
  private readonly tables: readonly string[];
  private readonly members = new Map<Follower, Member>();
  private readonly byView = new Map<string, Group>();
  private readonly byReplica = new Map<string, Set<Follower>>();
  private readonly concerned: ConditionIndex<Group>;
  private readonly consulting: ConditionIndex<Follower>;
  private readonly querying: ConditionIndex<Follower>;

  constructor({ schema }: Store) {
    this.tables = Object.keys(schema.tables);
    const filterable = (table: string) => schema.tables[table]?.filterable ?? [];
    this.concerned = new ConditionIndex(filterable);
    this.consulting = new ConditionIndex(filterable);
    this.querying = new ConditionIndex(filterable);
  }

  get size(): number {
    return this.members.size;
  }

  get(follower: Follower): Member | undefined {
    return this.members.get(follower);
  }

  followers(): Iterable<Follower> {
    return this.members.keys();
  }

  groups(): Iterable<Group> {
    return this.byView.values();
  }

  /** Those whose replica this is. */
  of(replica: string): ReadonlySet<Follower> {
    return this.byReplica.get(replica) ?? new Set();
  }

  /** The groups that may see a changed row, or may have seen it. */
  groupsFor({ table, id, ...change }: Changed): ReadonlySet<Group> {
    return this.concerned.find(table, id, statesOf(change));
  }

  /** Those whose scope may be another one after a change. */
  followersToReevaluate({ table, id, ...change }: Changed): ReadonlySet<Follower> {
    return this.consulting.find(table, id, statesOf(change));
  }

  /** Those who query rows of which this is one, or was. */
  followersQuerying({ table, id, ...change }: Changed): ReadonlySet<Follower> {
    return this.querying.find(table, id, statesOf(change));
  }

  enter(follower: Follower, { view, consulted, queried }: Entering, token: string): void {
    let group = this.byView.get(view.digest);
    if (group === undefined) {
      group = { view, followers: new Set() };
      this.byView.set(view.digest, group);
      for (const table of this.tables) this.concerned.add(table, view.where(table), group);
    }
    group.followers.add(follower);
    this.members.set(follower, { group, consulted, queried, token, isWaiting: false });
    for (const { table, where } of consulted) this.consulting.add(table, where, follower);
    for (const { table, where } of queried) this.querying.add(table, where, follower);
    if (follower.replica === undefined) return;
    const same = this.byReplica.get(follower.replica) ?? new Set();
    this.byReplica.set(follower.replica, same.add(follower));
  }

  forget(follower: Follower): void {
    const member = this.members.get(follower);
    if (member === undefined) return;
    this.members.delete(follower);
    for (const { table, where } of member.consulted) this.consulting.remove(table, where, follower);
    for (const { table, where } of member.queried) this.querying.remove(table, where, follower);
    const same = follower.replica === undefined ? undefined : this.byReplica.get(follower.replica);
    same?.delete(follower);
    if (follower.replica !== undefined && same?.size === 0) this.byReplica.delete(follower.replica);
    const { group } = member;
    group.followers.delete(follower);
    if (group.followers.size > 0) return;
    this.byView.delete(group.view.digest);
    for (const table of this.tables) this.concerned.remove(table, group.view.where(table), group);
  }
}

/** The values that a row holds, or held last, and what its filterable columns held since. */
function statesOf({ row, image, past }: Pick<Changed, 'row' | 'image' | 'past'>): readonly WireColumns[] {
  const last = row ?? image;
  return last === undefined ? past : [last, ...past];
}
