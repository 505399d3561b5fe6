import { Failure } from '@tide/core/failure'

/** `${NAME}` becomes what the environment says; `$${` is a `${` that stays. Throws a Failure for a name it does not have. */
export function withVariables(
  text: string,
  environment: Readonly<Record<string, string | undefined>>,
): string {
  return text.replace(/\$?\$\{([A-Za-z_][A-Za-z0-9_]*)\}/g, (found, name: string) => {
    if (found.startsWith('$$')) return found.slice(1)
    const value = environment[name]
    if (value !== undefined) return value
    throw new Failure(
      'refused',
      `The environment has no ${name}, which the file asks for.`,
      'Set it, or write the value.',
    )
  })
}
