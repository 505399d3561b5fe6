import type { Problem } from '@tide/core/api/problem'

/** What the server answered instead of doing it; `remedy` says what to do. */
export class ApiError extends Error {
  readonly remedy: string
  readonly status: number

  constructor(problem: Problem) {
    super(problem.detail)
    this.remedy = problem.remedy
    this.status = problem.status
  }
}

export async function api<T>(
  method: 'GET' | 'POST' | 'PUT' | 'DELETE',
  path: string,
  body?: unknown,
  signal?: AbortSignal,
): Promise<T> {
  let response: Response
  try {
    response = await fetch(`/api${path}`, {
      method,
      ...(signal ? { signal } : {}),
      ...(body === undefined
        ? {}
        : { body: JSON.stringify(body), headers: { 'Content-Type': 'application/json' } }),
    })
  } catch (error) {
    if (signal?.aborted) throw error
    throw new ApiError({
      type: 'about:blank',
      title: 'No answer',
      status: 0,
      detail: 'The server of Constant Tide does not answer.',
      remedy: 'See whether it still runs where it was started.',
    })
  }
  if (response.status === 204) return undefined as T
  const answer = await response.json()
  if (!response.ok) throw new ApiError(answer as Problem)
  return answer as T
}
