import { useEffect, type ReactNode } from 'react'
import { Sail } from './shell'

/** How everything looks that is typed into before somebody is signed in. */
export const entry = 'mt-1 w-full rounded-[6px] border border-line bg-paper px-3 py-2 text-ink focus:border-accent'

/** The frame of the pages that lead in. */
export function Entrance({ title, children, words }: { title: string; children: ReactNode; words: string }) {
  useEffect(() => {
    document.title = `${words} · Under Sail`
  }, [words])
  return (
    <main className="grid min-h-screen place-items-center px-4">
      <div className="w-full max-w-[380px]">
        <div className="mb-6 flex items-center gap-3">
          <Sail size={30} />
          <h1 className="text-title font-bold">{title}</h1>
        </div>
        {children}
      </div>
    </main>
  )
}

/** What a form on such a page is in, with its one button. */
export function EntryForm({
  onSend,
  busy,
  ready = true,
  submit,
  sending,
  children,
  below,
}: {
  onSend: () => void
  busy: boolean
  ready?: boolean
  submit: string
  sending: string
  children: ReactNode
  below?: ReactNode
}) {
  return (
    <form
      className="rounded-sheet border border-line bg-sheet p-5"
      onSubmit={(e) => {
        e.preventDefault()
        if (ready) onSend()
      }}
    >
      {children}
      <button
        type="submit"
        disabled={busy || !ready}
        className="mt-5 w-full rounded-[6px] border border-accent bg-accent px-3.5 py-2 font-semibold text-on-accent hover:opacity-90 disabled:opacity-60"
      >
        {busy ? sending : submit}
      </button>
      {below}
    </form>
  )
}
