import { expect, test } from '@jest/globals'
import { guardSays } from '../src/shapes/send/foresee.ts'

const guard = { percent: 30, records: 100 }
const none = { create: 0, change: 0, remove: 0 }
const says = (counts: Partial<typeof none>, usual: typeof none | null = null, ran = true) =>
  guardSays({ guard }, { ...none, ...counts }, { sent: 10_000, ran, usual })

test('a run asks above its share, and above a number, both together', () => {
  expect(says({ remove: 3_000 })).toBeNull()
  expect(says({ remove: 3_001, change: 5 })).toBe(
    'The run would remove 3,001 of 10,000 records; without being asked it may 3,000.',
  )
  expect(guardSays({ guard }, { ...none, create: 100 }, { sent: 10, ran: true, usual: null })).toBeNull()
  expect(says({ remove: 9_000 }, null, false)).toBeNull()
})

test('also where it is three times what is usual, though no large share; a few are never asked about', () => {
  const usual = { create: 10, change: 200, remove: 0 }
  expect(says({ change: 600, create: 100, remove: 100 }, usual)).toBeNull()
  expect(says({ change: 601, remove: 101 }, usual)).toBe(
    'The run would change 601 records; usually it is 200. The run would remove 101 records; usually it is 0.',
  )
})
