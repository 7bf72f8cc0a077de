/** Has work that several ask for at the same moment done once for all of them. Nothing is remembered after it. */
export class Once<T> {
  private readonly running = new Map<string, Promise<T>>();

  once(key: string, work: () => Promise<T>): Promise<T> {
    const present = this.running.get(key);
    if (present) return present;
    const begun = work().finally(() => this.running.delete(key));
    this.running.set(key, begun);
    return begun;
  }
}
