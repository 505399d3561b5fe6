import { expect, test } from '@jest/globals'
import type { Stream } from '@tide/core/checkpoint/checkpoint'
import { Failure } from '@tide/core/failure'
import type { Condition } from '@tide/core/scope/condition'
import { sweep } from '../src/shapes/replicate/sweep.ts'

type Given = Parameters<typeof sweep>

const AT = '2026-05-02T06:00:00.000000Z'
const due: Condition = { column: 'due', op: 'is at most', value: 'now + 2 seconds' }

/** A lane that was swept before, at a source whose reading comes to what `reading` does. */
function swept(reading: () => AsyncGenerator<never>) {
  let noted: Stream | undefined
  const stream = { position: { at: AT }, consistent: true, lanes: [{ swept: '2026-05-02T05:59:00.000000Z' }] }
  const open = {
    clock: () => AT,
    scan: reading,
    detail: () => {},
    checkpoint: {
      now: stream,
      note: async (change: (now: Stream) => Stream) => void (noted = change(stream as unknown as Stream)),
    },
  } as unknown as Given[0]
  const reads = [{ name: 'due', type: { kind: 'timestamp', zoned: true }, nativeType: 'timestamptz' }]
  const lane = {
    index: 0,
    identityIndexes: [0],
    source: { dataset: { namespace: 'site', name: 'visits' } },
    plan: { scope: due, reads },
  } as unknown as Given[1]
  return { open, lane, noted: () => noted?.lanes[0]!.swept }
}

test('a reading that is given up since something else is wanted stops nothing, and is done again', async () => {
  const turned = new AbortController()
  const { open, lane, noted } = swept(async function* () {
    turned.abort()
    throw new Failure('refused', 'The query was given up.', 'Run it again.')
  })
  await sweep(open, lane, turned.signal)
  expect(noted()).toBeUndefined()
})

test('a reading that ends by itself is noted, and one that fails is told', async () => {
  const whole = swept(async function* () {})
  await sweep(whole.open, whole.lane, new AbortController().signal)
  expect(whole.noted()).toBe(AT)
  const failing = swept(async function* () {
    throw new Failure('transient', 'It is away.', 'Wait.')
  })
  await expect(sweep(failing.open, failing.lane, new AbortController().signal)).rejects.toThrow('It is away.')
  expect(failing.noted()).toBeUndefined()
})
