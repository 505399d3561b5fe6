/** What stands in the way of a two-way pipeline, or is to be known before it starts. */
import type { AppField, AppObject } from '../app/object.ts'
import type { Definition } from '../definition/definition.ts'
import { laneName, type TwoWayDefinition, type TwoWayJoin, type TwoWayLane } from '../definition/two-way.ts'
import { other, type Side } from '../merge/rule.ts'
import { byHarm, someOf } from '../plan/note.ts'
import { asOf } from '../scope/relative.ts'
import { predicateOf } from '../scope/predicate.ts'
import { templateParts } from '../send/template.ts'
import { leadsNowhere, originates, SIDES, textsMadeOf } from './lane.ts'
import { ringOf } from './ring.ts'
import { lossesOf } from './losses.ts'
import { cannotMeet } from './meet.ts'
import type { TwoWayNote } from './note.ts'
import { joinName } from './pair.ts'
import { writtenTwice } from './written-twice.ts'

export interface TwoWayInput {
  definition: TwoWayDefinition
  /** What each side has; undefined: it is not known yet. */
  objects: Record<Side, readonly AppObject[] | undefined>
  /** What the sides are called. */
  called: Record<Side, string>
  /** Sides that know calls that they were told of before. */
  knowRepeats?: Partial<Record<Side, boolean>>
  /** Other pipelines that work in apps. */
  others?: readonly Definition[]
}

/** In order of harm; a definition without refusals can be started. */
export function planTwoWay(input: TwoWayInput): TwoWayNote[] {
  const { definition, objects, others = [] } = input
  const notes: TwoWayNote[] = []
  const { name, from, to, lanes } = definition
  if (name.trim() === '')
    notes.push({
      level: 'undecided',
      section: 'name',
      message: 'The pipeline has no name.',
      remedy: 'Give it one.',
    })
  if (from === '' || to === '')
    notes.push({
      level: 'undecided',
      section: 'places',
      message: `It is not said what ${from === '' ? 'side A' : 'side B'} is.`,
      remedy: 'Choose a connection to an app.',
    })
  else if (lanes.length === 0)
    notes.push({
      level: 'undecided',
      section: 'places',
      message: 'No places are joined.',
      remedy: 'Choose one on each side.',
    })
  const seen = new Set<string>()
  for (const [i, lane] of lanes.entries()) {
    const planned = new LanePlan(input, lane, i)
    notes.push(...planned.notes())
    if (seen.has(laneName(lane)) && lane.a !== '' && lane.b !== '')
      notes.push({
        level: 'refused',
        section: 'places',
        lane: i,
        message: `${laneName(lane)} are joined twice.`,
        remedy: 'Take one of the lanes out.',
      })
    seen.add(laneName(lane))
  }
  if (objects.a && objects.b)
    notes.push(
      ...writtenTwice(
        definition,
        others.flatMap(one => (one.shape === 'two-way' ? [one] : [])),
      ),
    )
  const ring = ringOf(definition, others)
  if (ring)
    notes.push({
      level: 'warning',
      section: 'places',
      message: `With ${ring.map(one => `“${one}”`).join(' and ')} this closes a ring: an edit could be carried round, back to where it came from.`,
      remedy: 'Take one of them out, or let each field go one way.',
    })
  return notes.sort(byHarm)
}

class LanePlan {
  private readonly input: TwoWayInput
  private readonly lane: TwoWayLane
  private readonly place: number
  private readonly said: TwoWayNote[] = []

  constructor(input: TwoWayInput, lane: TwoWayLane, place: number) {
    this.input = input
    this.lane = lane
    this.place = place
  }

  notes(): TwoWayNote[] {
    const { lane } = this
    const objects = { a: this.object('a'), b: this.object('b') }
    if (objects.a && objects.b) {
      this.writable(objects as Record<Side, AppObject>)
      if (lane.fields.length === 0)
        this.say('undecided', 'fields', 'No fields are joined.', 'Take what is proposed, or join some.')
      for (const join of lane.fields) this.join(join, objects as Record<Side, AppObject>)
      for (const side of SIDES) {
        this.scope(side, objects[side]!)
        this.required(side, objects[side]!)
        this.own(side, objects[side]!)
        this.findable(side)
      }
      this.pairing(objects as Record<Side, AppObject>)
      if (lane.trial) {
        const chosen = lane.trial.a.length + lane.trial.b.length
        if (chosen === 0)
          this.say('undecided', 'who', 'The trial has no records.', 'Choose some, or let all take part.')
      }
    }
    return this.said
  }

  private say(
    level: TwoWayNote['level'],
    section: TwoWayNote['section'],
    message: string,
    remedy: string,
    join?: string,
    loses?: Side,
  ): void {
    this.said.push({
      level,
      section,
      message,
      remedy,
      lane: this.place,
      ...(join === undefined ? {} : { join }),
      ...(loses === undefined ? {} : { loses }),
    })
  }

  private object(side: Side): AppObject | undefined {
    const { objects, called } = this.input
    const name = this.lane[side]
    if (!objects[side]) return undefined
    if (name === '') {
      this.say('undecided', 'places', `No place of ${called[side]} is chosen.`, 'Choose one.')
      return undefined
    }
    const object = objects[side].find(one => one.name === name)
    if (!object)
      this.say(
        'refused',
        'places',
        `${called[side]} has no “${name}” any more.`,
        `It has ${someOf(objects[side].map(one => one.name))}.`,
      )
    return object
  }

  /** Each side lets others do what is to be done there. */
  private writable(objects: Record<Side, AppObject>): void {
    const { called } = this.input
    for (const side of SIDES) {
      const { title, can, closed } = objects[side]
      const gets = this.lane.fields.some(({ direction }) => direction !== `${side} to ${other(side)}`)
      const { adds } = objects[side]
      if (adds !== undefined)
        this.say(
          'warning',
          'places',
          `${title} of ${called[side]} gets ${adds}.`,
          'Put there with the first pass. Whoever sorts or puts rows in between does no harm; who empties the column makes new rows of them.',
        )
      if (!can.list)
        this.say(
          'refused',
          'places',
          `${title} of ${called[side]} cannot take part.`,
          closed ?? 'Its records are not shown to others; choose another place.',
        )
      else if (!can.change && !can.create)
        this.say(
          'refused',
          'places',
          `${title} of ${called[side]} can be read, and not written.`,
          closed ?? 'A view or a list that is computed takes no records; choose the table that it shows.',
        )
      else if (!can.change && gets)
        this.say(
          'refused',
          'places',
          `${called[side]} lets nobody change ${title}.`,
          closed ? `${closed} Or let its fields only be read.` : 'Let its fields only be read.',
        )
      if (!can.create && originates(this.lane, other(side)))
        this.say(
          'refused',
          'who',
          `${called[side]} lets nobody create ${title}.`,
          closed ? `${closed} Or let new records start there alone.` : 'Let new records start there alone.',
        )
      const gone = this.lane.gone?.[other(side)]
      if (gone === 'delete' && !can.remove)
        this.say(
          'refused',
          'gone',
          `${called[side]} lets nobody delete ${title}.`,
          closed ? `${closed} Or leave or mark what is there.` : 'Leave or mark what is there.',
        )
      if (gone === 'delete')
        this.say(
          'loss',
          'gone',
          `${objects[other(side)].title} that are deleted in ${called[other(side)]} are deleted in ${called[side]}, too.`,
          'To keep it there, leave it or mark it.',
        )
    }
  }

  private join(join: TwoWayJoin, objects: Record<Side, AppObject>): void {
    const { called, definition } = this.input
    const name = joinName(join)
    const fields = { a: fieldOf(objects.a, join.a), b: fieldOf(objects.b, join.b) }
    for (const side of SIDES)
      if (!fields[side])
        this.say(
          'refused',
          'fields',
          `${objects[side].title} of ${called[side]} have no field “${join[side]}”.`,
          `They have ${someOf(objects[side].fields.map(one => one.name))}.`,
          name,
        )
    if (!fields.a || !fields.b) return
    const known = fields as Record<Side, AppField>
    for (const side of SIDES) {
      if (join.direction === `${side} to ${other(side)}` || !known[side].readOnly) continue
      this.say(
        'refused',
        'fields',
        `${called[side]} lets nobody write “${known[side].title}”.`,
        'Let it only be read: choose the other direction.',
        name,
      )
    }
    if (leadsNowhere(known.a, known.b, definition.lanes))
      return this.say(
        'warning',
        'fields',
        `“${known.a.title}” and “${known.b.title}” are left out: what they link to has no lane.`,
        `Join ${known.a.refers} and ${known.b.refers} with a lane of their own.`,
        name,
      )
    this.rule(join, known, name)
  }

  private rule(join: TwoWayJoin, fields: Record<Side, AppField>, name: string): void {
    const { rule, direction } = join
    const refuse = (message: string, remedy: string) => this.say('refused', 'fields', message, remedy, name)
    if (join.conflict === 'by line' && !mergesLines(join, fields))
      refuse('Only text that is the same on both sides is merged by line.', 'Choose who wins a conflict.')
    if (rule?.as === 'mapped') return this.map(join, fields, name)
    if (rule?.as === 'affixed' || rule?.as === 'attributed') {
      for (const side of SIDES) for (const text of textsMadeOf(rule, side)) this.textAround(text, side, name)
      if (SIDES.some(side => fields[side].type.kind !== 'utf8'))
        refuse('Text is put around text alone.', 'Take the rule out.')
      return
    }
    if (rule?.as === 'set' && SIDES.some(side => fields[side].type.kind !== 'list'))
      return refuse('One of them is no set.', 'Take the rule out, or join two sets.')
    if (fields.a.refers !== null || fields.b.refers !== null) return
    const why = cannotMeet(fields.a.type, fields.b.type)
    if (why) return refuse(`“${fields.a.title}” and “${fields.b.title}” cannot meet: ${why}.`, 'Join others.')
    for (const { into, what, remedy } of lossesOf(join, fields))
      this.say(
        'warning',
        'fields',
        `“${fields[into].title}” of ${this.input.called[into]} ${what}.`,
        remedy,
        name,
        into,
      )
    for (const side of SIDES) {
      const [from, into] = [fields[other(side)], fields[side]]
      if (direction === `${side} to ${other(side)}`) continue
      const strange = (from.choices ?? []).filter(one => into.choices && !into.choices.includes(one))
      if (strange.length > 0)
        this.say(
          'warning',
          'fields',
          `“${into.title}” has no choice ${someOf(strange.map(one => `“${one}”`))}.`,
          'Say in a value map what they are there; until then such values wait in Held.',
          name,
        )
    }
  }

  /** `side`: of whose fields the text is made. */
  private textAround(text: string, side: Side, name: string): void {
    const refuse = (message: string, remedy: string) => this.say('refused', 'fields', message, remedy, name)
    const object = this.input.objects[side]?.find(one => one.name === this.lane[side])
    const parts = templateParts(text)
    if (!parts)
      refuse('In the text around it a brace stands alone.', 'Write {field} for a value, and {{ for a brace.')
    for (const part of parts ?? [])
      if ('column' in part && object && !fieldOf(object, part.column))
        refuse(
          `The text around it names “${part.column}”, which is not there.`,
          `Name a field of ${object.title}.`,
        )
  }

  private map(join: TwoWayJoin, fields: Record<Side, AppField>, name: string): void {
    if (join.rule?.as !== 'mapped') return
    const { pairs, others } = join.rule.map
    for (const side of SIDES) {
      const { choices, title } = fields[side]
      if (join.direction !== `${side} to ${other(side)}` && choices) {
        const strange = pairs.map(pair => pair[side]).filter(value => !choices.includes(value))
        if (strange.length > 0)
          this.say(
            'refused',
            'fields',
            `“${title}” has no choice ${someOf([...new Set(strange)].map(one => `“${one}”`))}.`,
            `It has ${choices.join(', ')}.`,
            name,
          )
      }
      // Without a first one, that which stands first is taken; with two of them it is not said which.
      const values = new Set(pairs.map(pair => pair[side]))
      for (const value of values)
        if (pairs.filter(pair => pair[side] === value && pair.first).length > 1)
          this.say('refused', 'fields', `“${value}” has two first choices.`, 'Mark one of them.', name)
      const missing = (choices ?? []).filter(value => !values.has(value))
      if (join.direction !== `${other(side)} to ${side}` && missing.length > 0 && others === 'held')
        this.say(
          'warning',
          'fields',
          `${someOf(missing.map(one => `“${one}”`))} of “${title}” ${missing.length === 1 ? 'has' : 'have'} no meaning on the other side.`,
          'Add them to the value map; until then such values wait in Held.',
          name,
        )
    }
  }

  private scope(side: Side, object: AppObject): void {
    const condition = this.lane.scope?.[side]
    if (!condition) return
    const columns = object.fields.map(({ name, type }) => ({ name, type, nullable: true }))
    const made = predicateOf(asOf(condition, columns, '2026-01-01T00:00:00Z'), columns)
    if ('message' in made) this.say('refused', 'who', made.message, made.remedy)
  }

  /** What a new record needs comes from somewhere. */
  private required(side: Side, object: AppObject): void {
    if (!originates(this.lane, other(side))) return
    const gets = new Set(
      this.lane.fields
        .filter(({ direction }) => direction !== `${side} to ${other(side)}`)
        .map(join => join[side]),
    )
    const missing = object.fields.filter(({ name, required }) => required && !gets.has(name))
    if (missing.length === 0) return
    const it = missing.length === 1 ? 'it' : 'them'
    this.say(
      'refused',
      'fields',
      `${this.input.called[side]} needs ${someOf(missing.map(({ title }) => `“${title}”`))} for a new record, and nothing is written to ${it}.`,
      `Join fields to ${it}, or let new records start there alone.`,
    )
  }

  /** After a lost answer it can be found out whether a record was made. */
  private findable(side: Side): void {
    const { knowRepeats, called } = this.input
    if (knowRepeats?.[side] !== false || !originates(this.lane, other(side))) return
    if (this.lane.links?.[side] !== undefined || (this.lane.pair ?? []).length > 0) return
    this.say(
      'refused',
      'who',
      `${called[side]} does not know calls that it was told of before, so that a record could be made twice.`,
      `Choose a field of ${called[side]} that gets the key of the other half, or say by what records are paired.`,
    )
  }

  /** Links and marks. */
  private own(side: Side, object: AppObject): void {
    const named: [TwoWayNote['section'], string | undefined][] = [['fields', this.lane.links?.[side]]]
    const gone = this.lane.gone?.[other(side)]
    if (typeof gone === 'object') named.push(['gone', gone.mark])
    for (const [section, name] of named) {
      if (name === undefined) continue
      const field = fieldOf(object, name)
      if (!field || field.readOnly)
        this.say(
          'refused',
          section,
          `${object.title} have no field “${name}” that can be written.`,
          'Choose another, or none.',
        )
      // A mark may be one of them: by then there is no other half that it would go to.
      else if (
        section === 'fields' &&
        this.lane.fields.some(join => join[side] === name && join.direction !== `${side} to ${other(side)}`)
      )
        this.say(
          'refused',
          section,
          `“${field.title}” is joined already.`,
          'Choose another field, or take that pair out.',
        )
    }
  }

  private pairing(objects: Record<Side, AppObject>): void {
    for (const { fields } of this.lane.pair ?? [])
      for (const one of fields)
        for (const side of SIDES)
          if (!fieldOf(objects[side], one[side]))
            this.say(
              'refused',
              'there',
              `${objects[side].title} have no field “${one[side]}” to be paired by.`,
              `They have ${someOf(objects[side].fields.map(({ name }) => name))}.`,
            )
    // What two people have said is not the same, whatever it says.
    const remarks = this.lane.fields.some(({ rule }) => rule?.as === 'attributed')
    if ((this.lane.pair ?? []).length === 0 && this.lane.originate === 'both' && !remarks)
      this.say(
        'warning',
        'there',
        'Records that are on both sides already would be made twice.',
        'Say by what they are found to be the same.',
      )
  }
}

/** Without a rule, and text on both sides. */
export function mergesLines({ rule }: TwoWayJoin, { a, b }: Record<Side, AppField>): boolean {
  return !rule && a.refers === null && b.refers === null && a.type.kind === 'utf8' && b.type.kind === 'utf8'
}

function fieldOf(object: AppObject, name: string): AppField | undefined {
  return object.fields.find(one => one.name === name)
}
