import type { PipelineStatus } from '@tide/core/api/pipelines'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { plural } from '../../format.ts'
import { Button } from '../../parts/Button.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import type { Deed, Foreseen } from './deeds.ts'

interface Props {
  deed: Deed
  pipelines: readonly PipelineStatus[]
  done: () => void
}

/** What a deed entails for each of the chosen pipelines, before it is done; one that fails leaves the others be. */
export function TogetherDialog({ deed, pipelines, done }: Props) {
  return (
    <TogetherConfirm
      key={pipelines.map(({ id }) => id).join()}
      deed={deed}
      pipelines={pipelines}
      done={done}
    />
  )
}

function TogetherConfirm({ deed, pipelines, done }: Props) {
  const [asked, setAsked] = useState(false)
  const [told, setTold] = useState<ReadonlyMap<string, string>>(new Map())
  const foreseen = useQuery({
    queryKey: ['foreseen', deed.verb, pipelines.map(({ id }) => id)],
    queryFn: async () => {
      const all = await Promise.all(pipelines.map(one => deed.foresee(one)))
      return new Map(pipelines.map((one, i) => [one.id, all[i]!]))
    },
    enabled: asked,
    gcTime: 0,
    staleTime: Infinity,
  })
  const of = ({ id }: PipelineStatus): Foreseen | undefined => foreseen.data?.get(id)
  const willing = pipelines.filter(one => of(one)?.can)
  const act = async () => {
    const failed: string[] = []
    for (const one of willing) {
      const tell = (said: string) => setTold(before => new Map(before).set(one.id, said))
      tell('…')
      try {
        await deed.act(one, of(one)!)
        tell('done')
      } catch (error) {
        failed.push(one.definition.name)
        tell((error as Error).message)
      }
    }
    if (failed.length > 0)
      throw new Error(`${plural(failed.length, 'pipeline')} did not: ${failed.join(', ')}.`)
    done()
  }
  return (
    <Confirm
      trigger={
        <Button
          look="text"
          disabled={pipelines.length === 0}
          onClick={() => {
            setAsked(true)
            setTold(new Map())
          }}
        >
          {deed.verb} …
        </Button>
      }
      title={`${deed.verb} ${plural(pipelines.length, 'pipeline')}?`}
      verb={foreseen.data ? `${deed.verb} ${willing.length} of ${pipelines.length}` : 'Looking …'}
      danger={deed.danger}
      ready={willing.length > 0}
      act={act}
    >
      <ul className="max-h-[45vh] space-y-1 overflow-y-auto text-[13px]">
        {pipelines.map(one => (
          <li key={one.id}>
            <b className={of(one)?.can === false ? 'text-ink-3' : 'text-ink'}>{one.definition.name}</b>{' '}
            {told.get(one.id) ?? of(one)?.said ?? '…'}
          </li>
        ))}
      </ul>
    </Confirm>
  )
}
