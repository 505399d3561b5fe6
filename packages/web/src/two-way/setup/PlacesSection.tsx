import type { ConnectionInfo } from '@tide/core/api/connections'
import type { TwoWayLook } from '@tide/core/api/two-way'
import type { AppObject } from '@tide/core/app/object'
import type { TwoWayDefinition } from '@tide/core/definition/two-way'
import type { Starter } from '@tide/core/two-way/starters'
import { TextButton } from '../../parts/Button.tsx'
import { InlineSelect } from '../../parts/Field.tsx'
import { Pick } from '../../pipelines/setup/Pick.tsx'
import { Section, type Turning } from '../../pipelines/setup/Section.tsx'
import type { Called } from '../said.ts'
import { BeginReady } from './BeginReady.tsx'
import { EMPTY_LANE } from './empty.ts'
import { MakeTable } from './MakeTable.tsx'

interface PlacesProps extends Turning {
  definition: TwoWayDefinition
  /** Which lane the other sections are of. */
  chosen: number
  choose: (lane: number) => void
  connections: ConnectionInfo[]
  /** Records of these two are paired already. */
  fixed: boolean
  called: Called
  objects: { a: AppObject[]; b: AppObject[] }
  makes: TwoWayLook['makes']
  starters: Starter[]
  /** Takes lanes that are ready-made. */
  begin: (lanes: TwoWayDefinition['lanes']) => void
  change: (part: Partial<TwoWayDefinition>) => void
}

/** Both sides, and which of their places are joined. */
export function PlacesSection({
  definition,
  chosen,
  choose,
  connections,
  fixed,
  called,
  objects,
  makes,
  starters,
  begin,
  change,
  ...turning
}: PlacesProps) {
  const { lanes, from, to } = definition
  const titleOf = (side: 'a' | 'b', name: string) =>
    objects[side].find(one => one.name === name)?.title ?? (name || 'no place yet')
  const says =
    from === '' || to === ''
      ? 'not chosen yet'
      : lanes.length === 0
        ? `${called.a} and ${called.b}, no places yet`
        : lanes
            .map(lane => `${titleOf('a', lane.a)} of ${called.a} and ${titleOf('b', lane.b)} of ${called.b}`)
            .join('; ')
  const put = (i: number, part: Partial<(typeof lanes)[number]>) =>
    change({ lanes: lanes.map((one, n) => (n === i ? { ...one, ...part, fields: [] } : one)) })
  const makeTable = (i: number, side: 'a' | 'b') => {
    const far = side === 'a' ? 'b' : 'a'
    const object = objects[far].find(({ name }) => name === lanes[i]![far])
    const maker = makes[side]
    if (lanes[i]![side] !== '' || !object || !maker) return null
    return (
      <MakeTable
        connection={side === 'a' ? from : to}
        called={called[side]}
        schema={maker.schema}
        side={side}
        from={side === 'a' ? to : from}
        far={called[far]}
        object={object}
        made={part => change({ lanes: lanes.map((one, n) => (n === i ? { ...one, ...part } : one)) })}
      />
    )
  }
  const hasPlaces = (side: 'a' | 'b') => objects[side].length > 0 || makes[side] !== undefined
  const pickSide = (id: string, side: 'from' | 'to') => {
    if (id === definition[side]) return
    change({ [side]: id, lanes: [] })
  }
  return (
    <Section {...turning} name="places" title="Places" says={says}>
      {fixed ? (
        <p className="text-[13px] text-ink-2">
          What is paired is of the records of these two. For others make another pipeline.
        </p>
      ) : (
        <div className="grid grid-cols-2 gap-6">
          <div>
            <h3 className="text-[13px] font-semibold">Side A</h3>
            <Pick
              label="Side A"
              connections={connections}
              chosen={from}
              choose={id => pickSide(id, 'from')}
            />
          </div>
          <div>
            <h3 className="text-[13px] font-semibold">Side B</h3>
            <Pick label="Side B" connections={connections} chosen={to} choose={id => pickSide(id, 'to')} />
          </div>
        </div>
      )}
      {hasPlaces('a') && hasPlaces('b') && (
        <>
          {lanes.length === 0 &&
            starters.map(starter => (
              <BeginReady
                key={starter.title}
                starter={starter}
                called={called}
                connections={{ a: from, b: to }}
                objects={objects}
                begin={begin}
              />
            ))}
          <h3 className="mt-4 text-[13px] font-semibold">Lanes</h3>
          {lanes.map((lane, i) => (
            <p key={i} className="flex items-baseline gap-2 border-b border-line py-1.5 text-[13px]">
              <input
                type="radio"
                name="lane"
                aria-label={`Show lane ${i + 1}`}
                checked={i === chosen}
                onChange={() => choose(i)}
              />
              {(['a', 'b'] as const).map(side => (
                <span key={side} className="flex items-baseline gap-2">
                  {side === 'b' && <span className="text-ink-2">in step with</span>}
                  <InlineSelect
                    label={`Place of ${called[side]} in lane ${i + 1}`}
                    value={lane[side]}
                    options={[
                      ...(objects[side].some(({ name }) => name === lane[side])
                        ? []
                        : [{ value: lane[side], title: lane[side] || 'choose one' }]),
                      ...objects[side].map(({ name, title, can }) => ({
                        value: name,
                        title: can.create || can.change ? title : `${title}, can only be read`,
                      })),
                    ]}
                    onChange={({ target }) => put(i, { [side]: target.value })}
                  />
                  {makeTable(i, side)}
                </span>
              ))}
              <TextButton
                className="ml-auto"
                aria-label={`Remove lane ${i + 1}`}
                onClick={() => change({ lanes: lanes.toSpliced(i, 1) })}
              >
                Remove
              </TextButton>
            </p>
          ))}
          <p className="mt-2 text-[13px]">
            <TextButton
              onClick={() => {
                change({ lanes: [...lanes, EMPTY_LANE] })
                choose(lanes.length)
              }}
            >
              {lanes.length === 0 ? 'Join two places' : 'Join two more, for what their records link to'}
            </TextButton>
          </p>
        </>
      )}
    </Section>
  )
}
