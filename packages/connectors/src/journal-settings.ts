/** Settings of every connection whose log goes through a journal. */
export const journalProperties = {
  journalHours: {
    type: 'integer',
    title: 'Keep changes in the journal, hours',
    description: 'So long a pipeline can go back. What a pipeline still needs is kept longer.',
    minimum: 0,
    maximum: 8784,
    default: 72,
    advanced: true,
  },
  journalGiB: {
    type: 'integer',
    title: 'Keep at most, GiB',
    minimum: 1,
    maximum: 100_000,
    default: 10,
    advanced: true,
  },
  journalHardGiB: {
    type: 'integer',
    title: 'Never more than, GiB',
    description:
      'Beyond this the oldest changes go even when a pipeline still needs them, and that pipeline stops. 0: never.',
    minimum: 0,
    maximum: 100_000,
    default: 0,
    advanced: true,
  },
}

export interface JournalSettings {
  journalHours: number
  journalGiB: number
  journalHardGiB: number
}

export const journalDefaults: JournalSettings = { journalHours: 72, journalGiB: 10, journalHardGiB: 0 }

export function retentionOf({ journalHours, journalGiB, journalHardGiB }: JournalSettings) {
  return { hours: journalHours, bytes: journalGiB * 2 ** 30, hardBytes: journalHardGiB * 2 ** 30 }
}
