import type { Made, MadeLook, Wanted } from '@tide/core/app/made'
import type { AppObject } from '@tide/core/app/object'
import { useQueries } from '@tanstack/react-query'
import { useRef, useState, type ReactNode } from 'react'
import { api } from '../../api/client.ts'
import { PasteBlock } from '../../parts/Copyable.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'

/** Something to be made at a connection, for an object of another. */
export interface ToBeMade {
  connection: string
  from: string
  object: AppObject
  wanted: Wanted
}

interface MakeProps {
  trigger: ReactNode
  title: string
  all: readonly ToBeMade[]
  /** Each as it was asked for, in the same order. */
  made: (all: Made[]) => void
  children?: ReactNode
}

const asked = ({ object, ...rest }: ToBeMade, make: boolean) => ({ ...rest, object: object.name, make })

/** Makes places or fields for what the other side has, after a look at the statements or calls. */
export function Make({ trigger, title, all, made, children }: MakeProps) {
  const [open, setOpen] = useState(false)
  const done = useRef(new Map<string, Made>())
  const looks = useQueries({
    queries: all.map(one => ({
      queryKey: ['two-way', 'make', asked(one, false)],
      queryFn: () => api<MadeLook>('POST', '/two-way/make', asked(one, false)),
      enabled: open,
      retry: false,
    })),
  })
  const act = async () => {
    const answers: Made[] = []
    for (const one of all) {
      // What was made before another failed is not made twice.
      const key = JSON.stringify(asked(one, true))
      const answer = done.current.get(key) ?? (await api<MadeLook>('POST', '/two-way/make', asked(one, true)))
      done.current.set(key, answer)
      answers.push(answer)
    }
    done.current.clear()
    made(answers)
  }
  const calls = looks.flatMap(({ data }) => data?.calls ?? [])
  const failed = looks.find(({ error }) => error)
  const left = looks.flatMap(({ data }, i) => {
    const { object, wanted } = all[i]!
    const has = data?.joins.map(({ field }) => field)
    return has
      ? (wanted.fields ?? []).filter(name => !has.includes(name)).map(name => titled(object, name))
      : []
  })
  return (
    <Confirm
      trigger={trigger}
      title={title}
      verb="Make it"
      ready={looks.length > 0 && looks.every(({ data }) => data !== undefined)}
      turned={setOpen}
      act={act}
    >
      {children}
      <ErrorNotice error={failed?.error} />
      {calls.length > 0 && <PasteBlock text={calls.join('\n\n')} />}
      {left.length > 0 && <p className="text-[13px]">No type there holds {left.join(', ')}: left out.</p>}
      <p className="text-[13px]">
        The fields are joined then; what cannot be written in the other place only comes from there. They stay
        when the pipeline goes.
      </p>
    </Confirm>
  )
}

function titled({ fields }: AppObject, name: string): string {
  return fields.find(one => one.name === name)?.title ?? name
}
