// Things by name, each of which changes by itself: whoever reads one is told of that one alone, however many there are.

class Cell<T> {
  now = $state.raw() as T
  constructor(first: T) {
    this.now = first
  }
}

export class Shelf<T extends { name: string }> {
  #cells = new Map<string, Cell<T>>()
  /** By name; what is read of it is followed. */
  all = $state.raw<Record<string, T>>({})
  names = $state.raw<string[]>([])
  /** Counts the times that all came afresh: for what follows from things that do not change by themselves. */
  filled = $state(0)

  /** All of them, afresh. */
  fill(things: T[]): void {
    this.filled += 1
    const same = things.length === this.names.length && things.every((thing, number) => thing.name === this.names[number])
    if (same) return things.forEach((thing) => (this.#cells.get(thing.name)!.now = thing))
    this.#cells = new Map(things.map((thing) => [thing.name, new Cell(thing)]))
    const all = {}
    for (const [name, cell] of this.#cells) Object.defineProperty(all, name, { get: () => cell.now, enumerable: true })
    this.all = all
    this.names = things.map((thing) => thing.name)
  }

  /** One of them has changed. */
  put(thing: T): void {
    const cell = this.#cells.get(thing.name)
    if (cell) cell.now = thing
    else this.fill([...Object.values(this.all), thing])
  }
}
