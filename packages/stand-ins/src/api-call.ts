/** Calls the application's API; throws with what it answered and the remedy. */
export async function call<T>(server: string, method: string, path: string, body?: unknown): Promise<T> {
  const response = await fetch(`${server}/api${path}`, {
    method,
    ...(body === undefined
      ? {}
      : { body: JSON.stringify(body), headers: { 'Content-Type': 'application/json' } }),
  })
  const answer = response.status === 204 ? undefined : await response.json()
  if (!response.ok) {
    const { detail, remedy } = answer as { detail: string; remedy: string }
    throw new Error(`${method} ${path} was answered with ${response.status}: ${detail} ${remedy}`)
  }
  return answer as T
}
