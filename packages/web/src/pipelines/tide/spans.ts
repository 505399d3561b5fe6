/** The spans of time that a pipeline's figures are shown for. */
export const SPANS = [
  { title: '5 min', seconds: 300, said: 'last 5 minutes' },
  { title: '1 h', seconds: 3600, said: 'last hour' },
  { title: '1 day', seconds: 86_400, said: 'last day' },
  { title: '30 days', seconds: 30 * 86_400, said: 'last 30 days' },
]
