/** Where systems stand on the map and how ribbons run between them. Pure: figures in, coordinates out. */

export interface MapSystem {
  id: string
  band: number
}

export interface MapRoute {
  id: string
  from: string
  to: string
}

export interface Placed {
  id: string
  /** Middle of the box. */
  x: number
  y: number
}

export interface Ribbon {
  id: string
  path: string
  /** Where its label stands. */
  label: { x: number; y: number }
  /** Its beginning, where an arrow is of what goes both ways. */
  begin: { x: number; y: number; down: boolean }
  /** Its end, where the arrow is, and which way it points. */
  end: { x: number; y: number; down: boolean }
}

export interface MapLayout {
  systems: Map<string, Placed>
  ribbons: Map<string, Ribbon>
}

export const BOX = { width: 176, height: 50 }
const ROUNDS = 4

/**
 * Places each band's systems evenly, ordered by the mean position of what they are joined to, some rounds over, so
 * that ribbons rarely cross. Ends on one box are spread in the order of their other ends.
 */
export function layOut(
  systems: readonly MapSystem[],
  routes: readonly MapRoute[],
  width: number,
  bandHeights: readonly number[],
): MapLayout {
  const order = bandHeights.map((_, band) =>
    systems.filter(system => system.band === band).map(({ id }) => id),
  )
  const x = new Map<string, number>()
  const spread = (band: string[]) => band.forEach((id, i) => x.set(id, (width * (i + 0.5)) / band.length))
  order.forEach(spread)
  for (let round = 0; round < ROUNDS; round++) {
    for (const band of order) {
      const within = (id: string) => band.includes(id)
      const pull = (id: string) =>
        mean(
          neighbours(id, routes)
            .filter(other => !within(other))
            .map(other => x.get(other)!),
        ) ?? x.get(id)!
      const groups = joinedIn(band, routes).map(group => group.sort((a, b) => pull(a) - pull(b)))
      groups.sort((a, b) => mean(a.map(pull))! - mean(b.map(pull))!)
      band.splice(0, band.length, ...groups.flat())
      spread(band)
    }
  }
  const tops = bandHeights.map((_, i) => bandHeights.slice(0, i).reduce((sum, height) => sum + height, 0))
  const placed = new Map(
    systems.map(({ id, band }) => [id, { id, x: x.get(id)!, y: tops[band]! + bandHeights[band]! / 2 }]),
  )
  const bandOf = new Map(systems.map(({ id, band }) => [id, band]))
  /** What lies between the two ends, where a ribbon passes over a band. */
  const passed = ({ from, to }: MapRoute): Passed | undefined => {
    const [a, b] = [bandOf.get(from)!, bandOf.get(to)!]
    if (Math.abs(a - b) < 2) return undefined
    const band = Math.min(a, b) + 1
    const boxes = order[band]!.map(id => x.get(id)!)
    if (boxes.length === 0) return undefined
    return { y: tops[band]! + bandHeights[band]! / 2, gaps: gapsOf(boxes) }
  }
  const ribbons = routes.map((route): [string, Ribbon] => [
    route.id,
    ribbon(route, routes, placed, passed(route)),
  ])
  return { systems: placed, ribbons: new Map(ribbons) }
}

/** Systems of a band that are joined with one another stand together. */
function joinedIn(band: readonly string[], routes: readonly MapRoute[]): string[][] {
  const left = new Set(band)
  const groups: string[][] = []
  for (const id of band) {
    if (!left.delete(id)) continue
    const group = [id]
    for (const one of group)
      for (const other of neighbours(one, routes)) if (left.delete(other)) group.push(other)
    groups.push(group)
  }
  return groups
}

/** The middle of a band, and where in it no box stands. */
interface Passed {
  y: number
  gaps: number[]
}

/** Between boxes, and beside the only one. */
function gapsOf(boxes: readonly number[]): number[] {
  const [only] = boxes
  if (boxes.length === 1) return [only! - BOX.width * 0.8, only! + BOX.width * 0.8]
  return boxes.slice(1).map((x, i) => (x + boxes[i]!) / 2)
}

function neighbours(id: string, routes: readonly MapRoute[]): string[] {
  return routes.flatMap(({ from, to }) => (from === id ? [to] : to === id ? [from] : []))
}

function mean(values: number[]): number | undefined {
  return values.length === 0 ? undefined : values.reduce((sum, value) => sum + value, 0) / values.length
}

function ribbon(
  route: MapRoute,
  routes: readonly MapRoute[],
  placed: ReadonlyMap<string, Placed>,
  passed: Passed | undefined,
): Ribbon {
  const [from, to] = [placed.get(route.from)!, placed.get(route.to)!]
  const down = to.y > from.y
  const level = to.y === from.y
  const port = (end: Placed) => {
    const here = routes.filter(one => one.from === end.id || one.to === end.id)
    const otherX = (one: MapRoute) => placed.get(one.from === end.id ? one.to : one.from)!.x
    const sorted = here.sort((a, b) => otherX(a) - otherX(b))
    return end.x + ((sorted.indexOf(route) + 1) / (sorted.length + 1) - 0.5) * BOX.width * 0.8
  }
  const [x1, x2] = [port(from), port(to)]
  const beginAt = (y: number) => ({ x: x1, y, down: !down && !level })
  const half = BOX.height / 2
  // Between systems of one band a ribbon hangs below both.
  const y1 = from.y + (down || level ? half : -half)
  const y2 = to.y + (down ? -half : half)
  if (passed) {
    // Through the gap that is the least way round; the label stands behind it, where there is no box.
    const middle = (x1 + x2) / 2
    const gap = passed.gaps.reduce((a, b) => (Math.abs(b - middle) < Math.abs(a - middle) ? b : a))
    const [first, second] = [(passed.y - y1) / 2, (y2 - passed.y) / 2]
    const tip = y2 + (down ? -9 : 9)
    const path = `M${x1},${y1} C${x1},${y1 + first} ${gap},${passed.y - first} ${gap},${passed.y} C${gap},${passed.y + second} ${x2},${y2 - second} ${x2},${tip}`
    return {
      id: route.id,
      path,
      label: { x: (gap + x2) / 2, y: (passed.y + y2) / 2 },
      begin: beginAt(y1),
      end: { x: x2, y: y2, down },
    }
  }
  const bend = level ? 60 : (y2 - y1) / 2
  const arrow = down ? -9 : 9
  const path = `M${x1},${y1} C${x1},${y1 + bend} ${x2},${y2 + (level ? bend : -bend)} ${x2},${y2 + arrow}`
  return {
    id: route.id,
    path,
    begin: beginAt(y1),
    label: { x: (x1 + x2) / 2, y: level ? y1 + bend * 0.75 : (y1 + y2) / 2 },
    end: { x: x2, y: y2, down: down && !level },
  }
}
