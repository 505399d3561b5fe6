import { useRouteError } from 'react-router'
import { ButtonLink } from '../parts/Button.tsx'

/** A page that is not there, or one that broke. */
export function Lost() {
  const error = useRouteError()
  return (
    <main className="p-8">
      <h1 className="text-[20px]">{error ? 'This page broke' : 'There is no such page'}</h1>
      <p className="my-3 max-w-prose text-ink-2">
        {error ? String((error as Error).message) : 'The address may be old, or what it named was deleted.'}
      </p>
      <ButtonLink to="/">To the map</ButtonLink>
    </main>
  )
}
