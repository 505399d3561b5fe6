import type { ReplicationStatus } from '@tide/core/api/pipelines'
import type { VerificationLevel } from '@tide/core/definition/verification'
import { useQueryClient } from '@tanstack/react-query'
import { useState, type ReactNode } from 'react'
import { api } from '../../api/client.ts'
import { plural } from '../../format.ts'
import { Confirm } from '../../parts/Dialog.tsx'
import { InlineField } from '../../parts/Field.tsx'
import { laneTitle } from '../laneTitle.ts'

interface VerifyDialogProps {
  pipeline: ReplicationStatus
  /** None: all. */
  lanes: number[]
  trigger: ReactNode
}

/** What a verification costs, and how kind it is to be. */
export function VerifyDialog({ pipeline, lanes, trigger }: VerifyDialogProps) {
  const { id, fromName, toName } = pipeline
  const queries = useQueryClient()
  const [level, setLevel] = useState<VerificationLevel>('rows')
  const [rowsPerSecond, setRowsPerSecond] = useState('')
  const [pauseAbove, setPauseAbove] = useState('60')
  const chosen = lanes.length === 0 ? pipeline.lanes : lanes.map(lane => pipeline.lanes[lane]!)
  const rows = chosen.reduce((sum, { rowsThere }) => sum + (rowsThere ?? 0), 0)
  const verify = async () => {
    await api('POST', `/pipelines/${id}/verifications`, {
      lanes,
      level,
      rowsPerSecond: rowsPerSecond === '' ? null : Number(rowsPerSecond),
      pauseAboveSeconds: pauseAbove === '' ? null : Number(pauseAbove),
    })
    await queries.invalidateQueries({ queryKey: ['verifications', id] })
  }
  return (
    <Confirm
      trigger={trigger}
      title={
        chosen.length === 1 ? `Verify ${laneTitle(chosen[0]!)}?` : `Verify ${plural(chosen.length, 'lane')}?`
      }
      verb={level === 'rows' ? 'Compare the rows' : 'Count the rows'}
      act={verify}
    >
      <fieldset className="space-y-1">
        <legend className="sr-only">What is compared</legend>
        <Choice
          chosen={level === 'rows'}
          choose={() => setLevel('rows')}
          title="Every value of every row"
          says={`About ${plural(rows, 'row')} are read at ${fromName} and at ${toName}, in the order of their keys.`}
        />
        <Choice
          chosen={level === 'counts'}
          choose={() => setLevel('counts')}
          title="The number of rows"
          says="Tables with a scope, or that keep what the source deletes, are compared row by row."
        />
      </fieldset>
      <p>
        Changes go on meanwhile. A row that moves is looked at again once everything up to then has landed.
      </p>
      <PaceField
        title="Rows a second, at most"
        value={rowsPerSecond}
        set={setRowsPerSecond}
        says="empty: as fast as they come"
      />
      <PaceField
        title="Wait while the lag is above"
        value={pauseAbove}
        set={setPauseAbove}
        says="seconds; empty: whatever it is"
      />
    </Confirm>
  )
}

interface ChoiceProps {
  chosen: boolean
  choose: () => void
  title: string
  says: string
}

function Choice({ chosen, choose, title, says }: ChoiceProps) {
  return (
    <label className="flex items-start gap-2">
      <input type="radio" name="level" className="mt-1" checked={chosen} onChange={choose} />
      <span>
        <span className="font-semibold text-ink">{title}</span>
        <span className="block text-[12px]">{says}</span>
      </span>
    </label>
  )
}

interface PaceFieldProps {
  title: string
  value: string
  set: (digits: string) => void
  says: string
}

function PaceField({ title, value, set, says }: PaceFieldProps) {
  return (
    <label className="flex items-baseline gap-2">
      <span className="w-40 shrink-0 text-ink">{title}</span>
      <InlineField
        label={title}
        className="w-24"
        inputMode="numeric"
        value={value}
        onChange={event => set(event.target.value.replace(/\D/g, ''))}
      />
      <span className="text-[12px] text-ink-3">{says}</span>
    </label>
  )
}
