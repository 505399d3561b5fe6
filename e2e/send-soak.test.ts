/** The short form of `npm run soak -- --shape send`: senders are killed anywhere, and the app fails as apps do. */
import { expect, test } from '@jest/globals'
import { Random } from '../soak/random.ts'
import { sendFaults } from '../soak/send/faults.ts'

test.each([true, false])(
  'whatever dies when, the app has each row once, as it is (it knows repeats: %s)',
  async repeats => {
    const { edits, writes, ...wrong } = await sendFaults(6, new Random(11), repeats)
    expect(wrong).toEqual({ faults: 6, doubled: 0, lost: 0, different: 0 })
    // That there was something to lose.
    expect(edits).toBeGreaterThan(20)
    expect(writes).toBeGreaterThan(20)
  },
  120_000,
)
