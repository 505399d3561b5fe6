/** Lets one piece of work run at a time, in the order in which they came. */
export class Turns {
  private last: Promise<unknown> = Promise.resolve()

  run<T>(work: () => Promise<T>): Promise<T> {
    const done = this.last.then(work)
    this.last = done.catch(() => {}) // the one who asked hears of it
    return done
  }

  /** Waits for a turn, which lasts until what it returns is called. */
  take(): Promise<() => void> {
    return new Promise(begun => void this.run(() => new Promise<void>(ended => begun(ended))))
  }
}
