import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { ScheduleAnswer } from '@tide/core/api/schedules'
import type { Definition } from '@tide/core/definition/definition'
import type { Schedule } from '@tide/core/definition/schedule'
import { localTime } from '@tide/core/schedule/times'
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutletContext } from 'react-router'
import { api } from '../../api/client.ts'
import { useLive } from '../../api/live.ts'
import { ago, moment } from '../../format.ts'
import { Button, TextButton } from '../../parts/Button.tsx'
import { Confirm } from '../../parts/Dialog.tsx'
import { ErrorNotice } from '../../parts/Notice.tsx'
import { DEEDS } from './deeds.ts'
import { ScheduleForm } from './ScheduleForm.tsx'
import { whenSaid } from './when.ts'

const NOTHING = 'Nothing is done at set times. The pipeline goes on until somebody says otherwise.'

const SAID: Record<Definition['shape'], { what: string; none: string }> = {
  replicate: { what: 'Verifications, copies and rests', none: NOTHING },
  send: {
    what: 'Runs and rests',
    none: 'Nothing is sent at set times: a run begins when somebody asks for it.',
  },
  'two-way': { what: 'Restore points and rests', none: NOTHING },
}

/** What is done with the pipeline at set times, when next, and what came of it last. */
export function SchedulesSection() {
  const { id, definition } = useOutletContext<PipelineStatus>()
  const { what, none } = SAID[definition.shape]
  const [open, setOpen] = useState<string>()
  const [error, setError] = useState<unknown>()
  const client = useQueryClient()
  const key = ['schedules', id]
  const path = `/pipelines/${id}/schedules`
  const schedules = useQuery({
    queryKey: key,
    queryFn: () => api<ScheduleAnswer[]>('GET', path),
    refetchInterval: 2_000,
  })
  const change = async (method: 'POST' | 'PUT' | 'DELETE', schedule?: string, body?: Schedule) => {
    setError(undefined)
    const to = schedule === undefined ? path : `${path}/${schedule}`
    client.setQueryData(key, await api<ScheduleAnswer[]>(method, to, body))
    setOpen(undefined)
  }
  const form = (given?: ScheduleAnswer) => (
    <ScheduleForm
      key={given?.id ?? 'new'}
      pipeline={id}
      shape={definition.shape}
      {...(given ? { given } : {})}
      save={schedule => change(given ? 'PUT' : 'POST', given?.id, schedule)}
      cancel={() => setOpen(undefined)}
    />
  )
  return (
    <div className="py-3">
      <div className="flex items-center gap-4">
        <p className="flex-1 text-[13px] text-ink-2">{what} at set times, in a time zone of their own.</p>
        {open !== 'new' && <Button onClick={() => setOpen('new')}>New schedule</Button>}
      </div>
      <ErrorNotice error={error ?? schedules.error} />
      {open === 'new' && form()}
      {schedules.data?.length === 0 && open !== 'new' && <p className="py-4 text-ink-2">{none}</p>}
      <ul>
        {schedules.data?.map(one => (
          <li key={one.id} className="border-b border-line">
            {open === one.id ? (
              form(one)
            ) : (
              <Line
                schedule={one}
                change={() => setOpen(one.id)}
                turn={() =>
                  void change('PUT', one.id, { ...settingsOf(one), enabled: !one.enabled }).catch(setError)
                }
                remove={() => change('DELETE', one.id)}
              />
            )}
          </li>
        ))}
      </ul>
    </div>
  )
}

function settingsOf({ deed, cron, zone, missed, waitsFor, only, enabled }: ScheduleAnswer): Schedule {
  return { deed, cron, zone, missed, waitsFor, only, enabled }
}

interface LineProps {
  schedule: ScheduleAnswer
  change: () => void
  turn: () => void
  remove: () => Promise<unknown>
}

function Line({ schedule, change, turn, remove }: LineProps) {
  const { deed, cron, zone, enabled, next, doing, outcome, waitsFor, only } = schedule
  const { pipelines = [], now } = useLive()
  const names = waitsFor.flatMap(id => pipelines.find(one => one.id === id)?.definition.name ?? [])
  const [first] = next
  return (
    <div className="flex items-start gap-4 py-2.5 text-[13px]">
      <div className="min-w-0 flex-1">
        <p>
          <b>{DEEDS[deed].title}</b>, {whenSaid(cron)} <span className="text-ink-2">({zone})</span>
          {names.length > 0 && only === 'landed' && `, only if rows of ${names.join(', ')} have landed since`}
          {names.length > 0 &&
            only === 'always' &&
            `, not before ${names.join(', ')} ${names.length === 1 ? 'is' : 'are'} complete up to then`}
        </p>
        <p className="text-ink-2">
          {!enabled
            ? 'Switched off.'
            : first && (
                <>
                  Next {localTime(new Date(first.at), zone).replace(',', '')}
                  {first.note && <span className="text-ochre"> {first.note}</span>}
                </>
              )}
        </p>
        {doing && (
          <p role="status">
            {doing.phase === 'waiting'
              ? 'Its time has come; it waits for the others.'
              : `Being done for ${moment(doing.tick)}.`}
          </p>
        )}
        {outcome && (
          <p className={outcome.well ? '' : 'text-buoy'}>
            <span title={moment(outcome.at)}>{ago(outcome.at, now)}</span>: {outcome.said}
          </p>
        )}
      </div>
      <TextButton onClick={change}>Change</TextButton>
      <TextButton onClick={turn}>{enabled ? 'Switch off' : 'Switch on'}</TextButton>
      <Confirm
        trigger={<TextButton>Take away</TextButton>}
        title="Take the schedule away?"
        verb="Take it away"
        danger
        act={remove}
      >
        <p>
          {DEEDS[deed].title}, {whenSaid(cron)}: it is not done any more.
        </p>
      </Confirm>
    </div>
  )
}
