/** What people say of tickets and jobs, correct, and take back; in the end each is said once on either side. */
import type { StandInApp } from '../../packages/stand-ins/src/apps/app.ts'
import type { StandInObject, StandInRecord } from '../../packages/stand-ins/src/apps/definition.ts'
import type { Random } from '../random.ts'

type Side = 'a' | 'b'

const MOST_STANDING = 80
const AUTHORS = { a: 'o.marsh@example.org', b: 'l.moor@example.org' }
const PARENT = { a: { object: 'tickets', field: 'ticket' }, b: { object: 'jobs', field: 'job' } } as const

export class Remarks {
  private readonly apps: Record<Side, StandInApp>
  private readonly random: Random
  private readonly words: readonly string[]
  private readonly objects: Record<Side, StandInObject>
  /** What was taken back, by what it was known by. */
  private readonly takenBack = new Set<string>()

  constructor(apps: Record<Side, StandInApp>, random: Random, words: readonly string[]) {
    this.apps = apps
    this.random = random
    this.words = words
    const comments = (side: Side) => apps[side].definition.objects.find(({ name }) => name === 'comments')!
    this.objects = { a: comments('a'), b: comments('b') }
  }

  /** Whether anything was said or done. */
  once(): boolean {
    const { random } = this
    const side = random.pick(['a', 'b'] as const)
    const { records } = this.apps[side]
    const object = this.objects[side]
    const own = records.of('comments').filter(({ author }) => author === AUTHORS[side])
    const does = random.below(5)
    if (does < 2 || own.length === 0) {
      const parents = records.of(PARENT[side].object)
      if (parents.length === 0 || records.of('comments').length >= MOST_STANDING) return false
      const given = { [PARENT[side].field]: random.pick(parents).id, body: this.said(`#${random.hex(6)}`) }
      records.create(object, given, AUTHORS[side])
      return true
    }
    const one = random.pick(own)
    if (does < 4) records.change(object, one.id, { body: this.said(known(one)) })
    else {
      this.takenBack.add(known(one))
      records.remove(object, one.id)
    }
    return true
  }

  private said(by: string): string {
    return `${by} ${this.random.pick(this.words)}`
  }

  /** Of a ticket and the job that is the same. */
  look(
    ticket: string,
    job: string,
    wrong: (kind: 'doubled' | 'lost' | 'different', what: string) => void,
  ): void {
    const of = { a: this.saidOf('a', ticket), b: this.saidOf('b', job) }
    for (const [side, far] of [
      ['a', 'b'],
      ['b', 'a'],
    ] as const)
      for (const one of of[side]) {
        const by = known(one)
        if (this.takenBack.has(by)) wrong('different', `${by} was taken back, and stands in ${side}`)
        const others = of[far].filter(other => known(other) === by)
        if (others.length === 0) wrong('lost', `${by} of ${ticket} is in ${side} alone`)
        if (others.length > 1) wrong('doubled', `${by} of ${ticket} is ${others.length} times in ${far}`)
        if (one.author !== AUTHORS[side]) continue
        const copy = `${AUTHORS[side]}: ${String(one.body)}`
        for (const { body } of others)
          if (body !== copy) wrong('different', `${by}: ${JSON.stringify(body)}, not ${JSON.stringify(copy)}`)
      }
  }

  private saidOf(side: Side, parent: string): StandInRecord[] {
    return this.apps[side].records.of('comments').filter(one => one[PARENT[side].field] === parent)
  }
}

/** Everything that is said has a name of its own in it, which is kept when it is corrected. */
function known({ body }: StandInRecord): string {
  return /#[0-9a-f]+/.exec(String(body))![0]
}
