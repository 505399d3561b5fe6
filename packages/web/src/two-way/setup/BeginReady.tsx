import type { AppObject } from '@tide/core/app/object'
import type { TwoWayLane } from '@tide/core/definition/two-way'
import { withMade, type Starter } from '@tide/core/two-way/starters'
import { plural } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import type { Called } from '../said.ts'
import { Make } from './Make.tsx'

interface BeginReadyProps {
  starter: Starter
  called: Called
  connections: { a: string; b: string }
  objects: { a: AppObject[]; b: AppObject[] }
  begin: (lanes: TwoWayLane[]) => void
}

/** Begins with ready-made lanes; what is not there is made before, or left out. */
export function BeginReady({ starter, called, connections, objects, begin }: BeginReadyProps) {
  const { title, lanes } = starter
  const lacking = lanes.flatMap(one => {
    const { lane, lacks } = one
    if (!lacks) return []
    const far: 'a' | 'b' = lacks.side === 'a' ? 'b' : 'a'
    const object = objects[far].find(({ name }) => name === lane[far])!
    return [{ one, lacks, far, object }]
  })
  const [first] = lacking
  const there = lanes.flatMap(({ lane }) => (lane.a !== '' && lane.b !== '' ? [lane] : []))
  if (!first)
    return (
      <p className="mt-4 flex items-baseline gap-3 text-[13px]">
        <Button onClick={() => begin(there)}>Begin with what is ready-made</Button>
        <span className="text-ink-2">{title}; all of it can be changed.</span>
      </p>
    )
  const where = called[first.lacks.side]
  const said = lacking.map(({ lacks: { title: name, wanted } }) => {
    const fields = plural((wanted.fields?.length ?? 0) + (wanted.link === null ? 0 : 1), 'field')
    return 'table' in wanted.into ? `a table “${name}” with ${fields}` : `${fields} of ${name}`
  })
  return (
    <div className="mt-4 text-[13px]">
      <p className="flex items-baseline gap-3">
        <Make
          trigger={<Button>Begin with what is ready-made …</Button>}
          title={`Make what is not there in ${where}?`}
          all={lacking.map(({ lacks, far, object }) => ({
            connection: connections[lacks.side],
            from: connections[far],
            object,
            wanted: lacks.wanted,
          }))}
          made={answers =>
            begin(
              lanes.map(one => {
                const i = lacking.findIndex(each => each.one === one)
                if (i < 0) return one.lane
                const { lacks, object } = lacking[i]!
                return withMade(one, lacks.side, answers[i]!, object)
              }),
            )
          }
        >
          <p>{said.map(one => one.charAt(0).toUpperCase() + one.slice(1)).join('; ')}.</p>
        </Make>
        <span className="text-ink-2">{title}; all of it can be changed.</span>
      </p>
      <p className="mt-1 text-ink-2">
        {where} has no {said.map(one => one.replace(/^a /, '')).join(' and no ')}: made there first, after a
        look. {there.length > 0 && <TextButton onClick={() => begin(there)}>Begin without</TextButton>}
      </p>
    </div>
  )
}
