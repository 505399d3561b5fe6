import type { Definition } from '@tide/core/definition/definition'
import type { Schedule, ScheduledDeed } from '@tide/core/definition/schedule'
import type { Failure } from '@tide/core/failure'
import { nextTimes, type ScheduledTime } from '@tide/core/schedule/times'
import { useState } from 'react'
import { useLive } from '../../api/live.ts'
import { Button } from '../../parts/Button.tsx'
import { InlineField, InlineSelect, SelectField } from '../../parts/Field.tsx'
import { ErrorNotice, Notice } from '../../parts/Notice.tsx'
import { DEEDS, DEEDS_OF } from './deeds.ts'
import { NextTimes } from './NextTimes.tsx'
import { AT_NIGHT, cronOf, EVERY, WEEKDAYS, whenOf, type Every } from './when.ts'

const SHOWN = 5
const HERE = Intl.DateTimeFormat().resolvedOptions().timeZone
const ZONES = [...new Set([HERE, 'UTC', ...Intl.supportedValuesOf('timeZone')])]

interface Props {
  pipeline: string
  shape: Definition['shape']
  /** The one that is changed. */
  given?: Schedule
  save: (schedule: Schedule) => Promise<unknown>
  cancel: () => void
}

export function ScheduleForm({ pipeline, shape, given, save, cancel }: Props) {
  const deeds = DEEDS_OF[shape]
  const [deed, setDeed] = useState<ScheduledDeed>(given?.deed ?? deeds[0]!)
  const [when, setWhen] = useState(given ? whenOf(given.cron) : AT_NIGHT)
  const [zone, setZone] = useState(given?.zone ?? HERE)
  const [missed, setMissed] = useState(given?.missed ?? 'once')
  const [waitsFor, setWaitsFor] = useState<readonly string[]>(given?.waitsFor ?? [])
  const [only, setOnly] = useState(given?.only ?? 'always')
  const [error, setError] = useState<unknown>()
  const [busy, setBusy] = useState(false)
  const { pipelines = [], now } = useLive()
  const others = pipelines.filter(({ id }) => id !== pipeline)
  const cron = cronOf(when)
  const next = timesOf({ cron, zone }, now)
  const submit = async () => {
    setBusy(true)
    setError(undefined)
    const enabled = given?.enabled ?? true
    await save({ deed, cron, zone, missed, waitsFor: [...waitsFor], only, enabled }).catch(setError)
    setBusy(false)
  }
  return (
    <form
      aria-label={given ? 'Change the schedule' : 'New schedule'}
      className="my-3 grid grid-cols-[minmax(0,1fr)_270px] gap-x-8 border border-line-2 p-4"
      onSubmit={event => {
        event.preventDefault()
        void submit()
      }}
    >
      <div className="space-y-3">
        <SelectField
          label="What is done"
          options={deeds.map(one => ({ value: one, title: DEEDS[one].title }))}
          value={deed}
          hint={DEEDS[deed].entails}
          onChange={event => setDeed(event.target.value as ScheduledDeed)}
        />
        <fieldset>
          <legend className="mb-1 text-[13px] font-semibold">When</legend>
          <div className="flex flex-wrap items-center gap-2 text-[13px]">
            <InlineSelect
              label="How often"
              options={EVERY}
              value={when.every}
              onChange={event => setWhen({ ...when, cron, every: event.target.value as Every })}
            />
            {when.every === 'fields' ? (
              <InlineField
                label="Minute, hour, day of the month, month, day of the week"
                className="w-44"
                value={when.cron}
                onChange={event => setWhen({ ...when, cron: event.target.value })}
              />
            ) : (
              <>
                {when.every === 'week' && (
                  <InlineSelect
                    label="Day of the week"
                    options={WEEKDAYS.map((title, i) => ({ value: String(i), title }))}
                    value={String(when.weekday)}
                    onChange={event => setWhen({ ...when, weekday: Number(event.target.value) })}
                  />
                )}
                {when.every === 'month' && (
                  <NumberField
                    label="Day"
                    from={1}
                    to={31}
                    value={when.day}
                    set={day => setWhen({ ...when, day })}
                  />
                )}
                <span className="text-ink-2">{when.every === 'minutes' ? 'every' : 'at'}</span>
                {when.every !== 'hour' && when.every !== 'minutes' && (
                  <NumberField
                    label="Hour"
                    from={0}
                    to={23}
                    value={when.hour}
                    set={hour => setWhen({ ...when, hour })}
                  />
                )}
                {when.every !== 'minutes' && <span>:</span>}
                <NumberField
                  label={when.every === 'minutes' ? 'Minutes' : 'Minute'}
                  from={when.every === 'minutes' ? 1 : 0}
                  to={59}
                  value={when.minute}
                  set={minute => setWhen({ ...when, minute })}
                />
              </>
            )}
            <InlineSelect
              label="Time zone"
              className="w-48"
              options={ZONES.map(value => ({ value, title: value }))}
              value={zone}
              onChange={event => setZone(event.target.value)}
            />
          </div>
        </fieldset>
        {others.length > 0 && (
          <fieldset>
            <legend className="mb-1 text-[13px] font-semibold">
              <InlineSelect
                label="What it waits for"
                options={[
                  { value: 'always', title: 'Not before these are complete up to then' },
                  { value: 'landed', title: 'Only if rows of these have landed since' },
                ]}
                value={only}
                onChange={event => setOnly(event.target.value as Schedule['only'])}
              />
            </legend>
            <div className="flex flex-wrap gap-x-4 gap-y-1 text-[13px]">
              {others.map(({ id, definition }) => (
                <label key={id} className="flex min-h-6 items-center gap-1.5">
                  <input
                    type="checkbox"
                    checked={waitsFor.includes(id)}
                    onChange={event =>
                      setWaitsFor(
                        event.target.checked ? [...waitsFor, id] : waitsFor.filter(other => other !== id),
                      )
                    }
                  />
                  {definition.name}
                </label>
              ))}
            </div>
          </fieldset>
        )}
        <SelectField
          label="If nobody was there at the time"
          options={[
            { value: 'once', title: 'do it once, as soon as somebody is' },
            { value: 'leave', title: 'leave it out' },
          ]}
          value={missed}
          onChange={event => setMissed(event.target.value as Schedule['missed'])}
        />
        <ErrorNotice error={error} />
        <div className="flex gap-2">
          <Button type="submit" look="filled" disabled={busy || 'problem' in next}>
            {given ? 'Save' : 'Set it'}
          </Button>
          <Button look="text" onClick={cancel}>
            Cancel
          </Button>
        </div>
      </div>
      <div className="text-[13px]">
        <h2 className="mb-1 text-[13px]">The next times</h2>
        {'problem' in next ? (
          <Notice level="refused" title={next.problem.message}>
            {next.problem.remedy}
          </Notice>
        ) : (
          <NextTimes times={next.times} zone={zone} />
        )}
      </div>
    </form>
  )
}

interface NumberProps {
  label: string
  from: number
  to: number
  value: number
  set: (value: number) => void
}

function NumberField({ label, from, to, value, set }: NumberProps) {
  return (
    <InlineField
      label={label}
      type="number"
      min={from}
      max={to}
      className="w-14"
      value={value}
      onChange={event => set(Math.min(to, Math.max(from, Math.trunc(Number(event.target.value)))))}
    />
  )
}

function timesOf(
  when: Pick<Schedule, 'cron' | 'zone'>,
  now: number,
): { times: ScheduledTime[] } | { problem: Pick<Failure, 'message' | 'remedy'> } {
  try {
    return { times: nextTimes(when, now, SHOWN) }
  } catch (thrown) {
    return { problem: thrown as Failure }
  }
}
