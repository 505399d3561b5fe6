/** What others have called a thing: cut where there is no room for it, whole on hover. */
export function Name({ children }: { children: string }) {
  return (
    <span
      title={children}
      className="inline-block max-w-72 min-w-0 overflow-hidden align-bottom font-mono text-[12px] text-ellipsis whitespace-nowrap"
    >
      {children}
    </span>
  )
}
