/** What can be done with many pipelines at once, and what that entails for each of them. */
import type { PipelineStatus } from '@tide/core/api/pipelines'
import type { PlanAnswer } from '@tide/core/api/plans'
import { isChangeable } from '@tide/core/definition/definition'
import { hinders } from '@tide/core/plan/note'
import { api } from '../../api/client.ts'
import { putPipeline } from '../../api/live.ts'
import { count, plural } from '../../format.ts'
import { isTwoWay } from '../../two-way/status.ts'
import { tablesSaid } from '../tablesSaid.ts'

/** `can: false`: it is left as it is, for the reason that is said. */
export interface Foreseen {
  can: boolean
  said: string
  /** Of a start: what was shown. */
  plan?: PlanAnswer
}

export interface Deed {
  verb: string
  /** Rows or the capture go. */
  danger: boolean
  foresee(pipeline: PipelineStatus): Foreseen | Promise<Foreseen>
  act(pipeline: PipelineStatus, foreseen: Foreseen): Promise<unknown>
}

const can = (said: string): Foreseen => ({ can: true, said })
const cannot = (said: string): Foreseen => ({ can: false, said })
const runs = ({ state, wanted }: PipelineStatus) =>
  wanted !== 'stop' && (state === 'Following' || state === 'Copying')
const sendsOrWaits = ({ state }: PipelineStatus) => state === 'Waiting' || state === 'Sending'
const isNow = ({ state }: PipelineStatus) => `is ${state.toLowerCase()}`

/** Rows at the target, where each count is known. */
function rowsSaid({ lanes }: PipelineStatus): string {
  if (lanes.some(({ rowsThere }) => rowsThere === null)) return 'all rows'
  return plural(
    lanes.reduce((sum, { rowsThere }) => sum + rowsThere!, 0),
    'row',
  )
}

async function post(pipeline: PipelineStatus, action: string, body?: unknown): Promise<void> {
  putPipeline(await api<PipelineStatus>('POST', `/pipelines/${pipeline.id}/${action}`, body))
}

async function planned(pipeline: PipelineStatus): Promise<Foreseen> {
  const { definition, state, reason, id } = pipeline
  const startable = isChangeable(state) && (state !== 'Stopped' || reason?.kind === 'person')
  if (!startable) return cannot(isNow(pipeline))
  if (definition.shape === 'send') return can('waits for runs, and sends nothing before')
  if (definition.shape === 'two-way') return can('merges what both sides have; its setup shows what that is')
  let plan: PlanAnswer
  try {
    plan = await api<PlanAnswer>('POST', '/plan', { pipeline: id, definition, fresh: true })
  } catch (error) {
    return cannot(`cannot be planned: ${(error as Error).message}`)
  }
  const hindrance = plan.notes.find(hinders)
  if (hindrance) return cannot(`cannot be started: ${hindrance.message}`)
  const losses = plan.notes.filter(({ level }) => level === 'loss')
  const what = `copies ${plural(plan.rows, 'row')} of ${plural(plan.lanes.length, 'table')}, then follows`
  return { ...can([what, ...losses.map(({ message }) => message)].join('; ')), plan }
}

export const DEEDS: Deed[] = [
  {
    verb: 'Pause',
    danger: false,
    foresee: one =>
      one.wanted !== 'stop' && sendsOrWaits(one)
        ? can('begins no run')
        : isTwoWay(one) && runs(one)
          ? can('stands still; what is edited meanwhile is merged when it goes on')
          : runs(one)
            ? can(`stands still; ${count(one.committedPerMinute)} changes a minute wait in its journal`)
            : cannot(isNow(one)),
    act: one => post(one, 'pause'),
  },
  {
    verb: 'Continue',
    danger: false,
    foresee: one => {
      if (one.state === 'Paused' && one.wanted !== 'stop')
        return can(`goes on with ${one.backlog === null ? 'what is waiting' : plural(one.backlog, 'change')}`)
      if (one.state === 'Stopped' && one.reason && one.reason.kind === 'guard')
        return cannot(`asks before it deletes rows: ${one.reason.message}`)
      if (one.state === 'Stopped' && one.reason && one.reason.kind !== 'person' && one.wanted !== 'stop')
        return can(`tries again: ${one.reason.message}`)
      return cannot(isNow(one))
    },
    act: one => post(one, 'continue'),
  },
  {
    verb: 'Start',
    danger: true,
    foresee: planned,
    act: (one, { plan }) => post(one, 'start', plan ? { plan: plan.digest } : {}),
  },
  {
    verb: 'Verify',
    danger: false,
    foresee: one =>
      isTwoWay(one)
        ? cannot('keeps two apps in step, and has no copy to verify')
        : runs(one)
          ? can(`${rowsSaid(one)} of ${tablesSaid(one)} are read on both sides`)
          : cannot(isNow(one)),
    act: one => api('POST', `/pipelines/${one.id}/verifications`, {}),
  },
  {
    verb: 'Recopy',
    danger: true,
    foresee: one =>
      isTwoWay(one)
        ? cannot('keeps two apps in step, and copies nothing anew')
        : one.state === 'Following' && one.wanted !== 'stop'
          ? can(`${rowsSaid(one)} of ${tablesSaid(one)} are deleted at ${one.toName} and copied again`)
          : cannot(isNow(one)),
    act: one => post(one, 'recopy', { lanes: [] }),
  },
  {
    verb: 'Stop',
    danger: true,
    foresee: one =>
      one.definition.shape === 'send' &&
      one.wanted !== 'stop' &&
      (sendsOrWaits(one) || one.state === 'Paused')
        ? can('begins no run any more; what was sent stays, and is remembered')
        : isTwoWay(one) && one.wanted !== 'stop' && (runs(one) || one.state === 'Paused')
          ? can('carries nothing over any more; what is paired is remembered')
          : runs(one) || (one.state === 'Paused' && one.wanted !== 'stop')
            ? can(`the capture of ${tablesSaid(one)} goes; to start again, all is copied anew`)
            : cannot(isNow(one)),
    act: one => post(one, 'stop'),
  },
]
