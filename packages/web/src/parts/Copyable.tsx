import { useState } from 'react'

/** An identifier, a position or a statement that one click copies. */
export function Copyable({ text, className = '' }: { text: string; className?: string }) {
  const [copied, setCopied] = useState(false)
  const copy = async () => {
    await navigator.clipboard.writeText(text)
    setCopied(true)
    setTimeout(() => setCopied(false), 1500)
  }
  return (
    <button
      type="button"
      onClick={copy}
      title="Copy"
      className={`group text-left font-mono text-[12px] ${className}`}
    >
      {text}
      <span
        className="ml-1.5 font-sans text-[11px] text-ink-3 opacity-0 group-hover:opacity-100 group-focus:opacity-100"
        aria-live="polite"
      >
        {copied ? 'copied' : 'copy'}
      </span>
    </button>
  )
}

/** Text to paste somewhere else, as a block. */
export function PasteBlock({ text }: { text: string }) {
  const [copied, setCopied] = useState(false)
  return (
    <div className="relative mt-1 border border-line bg-paper-2">
      <pre className="max-h-72 overflow-auto p-2 pr-16 font-mono text-[12px] leading-snug whitespace-pre">
        {text}
      </pre>
      <button
        type="button"
        className="absolute top-1 right-1 rounded-sm border border-line-2 bg-paper-3 px-2 text-[12px]"
        onClick={() => void navigator.clipboard.writeText(text).then(() => setCopied(true))}
      >
        {copied ? 'Copied' : 'Copy'}
      </button>
    </div>
  )
}
