/** Numbers that look random and are the same for the same seed: mulberry32, by Tommy Ettinger (public domain). */
export class Random {
  private state: number;

  constructor(seed: number) {
    this.state = seed >>> 0;
  }

  /** From 0 up to 1. */
  next(): number {
    this.state = (this.state + 0x6d2b79f5) >>> 0;
    let t = this.state;
    t = Math.imul(t ^ (t >>> 15), t | 1);
    t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
    return ((t ^ (t >>> 14)) >>> 0) / 4_294_967_296;
  }

  /** A whole number from 0, below `end`. */
  below(end: number): number {
    return Math.floor(this.next() * end);
  }

  pick<T>(list: readonly T[]): T {
    return list[this.below(list.length)] as T;
  }

  /** One of the names, each as often as its weight says. */
  weighted<K extends string>(weights: Readonly<Record<K, number>>): K {
    const entries = Object.entries(weights) as [K, number][];
    let left = this.next() * entries.reduce((sum, [, weight]) => sum + weight, 0);
    for (const [name, weight] of entries) {
      left -= weight;
      if (left < 0) return name;
    }
    return (entries[0] as [K, number])[0];
  }
}
