import { useId, useState, type ReactNode } from 'react'
import { Dialog } from 'radix-ui'
import { Button } from './ui'

/** How everything looks that is typed into. */
export const box = 'rounded-[6px] border border-line bg-paper px-2.5 py-1.5'

/** A dialog with a form in it; what was typed goes when it closes. */
export function Panel({ title, trigger, children, reset }: { title: string; trigger: ReactNode; children: (close: () => void) => ReactNode; reset?: () => void }) {
  const [open, setOpen] = useState(false)
  const change = (next: boolean) => { if (!next) reset?.(); setOpen(next) }
  return (
    <Dialog.Root open={open} onOpenChange={change}>
      <Dialog.Trigger asChild>{typeof trigger === 'string' ? <Button>{trigger}</Button> : trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-black/40" />
        <Dialog.Content aria-describedby={undefined} className="fixed top-1/2 left-1/2 max-h-[90vh] w-[min(92vw,480px)] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded-sheet border border-line bg-sheet p-5 text-ink">
          <Dialog.Title className="mb-1.5 text-large font-semibold">{title}</Dialog.Title>
          {children(() => change(false))}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  )
}

/** One line to fill in. A secret one is not shown and remembered nowhere. */
export function Field({ label, name, note, value, secret, required, choices }: { label: string; name: string; note?: string; value?: string; secret?: boolean; required?: boolean; choices?: [string, string][] }) {
  const id = useId()
  const look = `mt-0.5 w-full ${box}`
  return (
    <div className="mt-3">
      <label htmlFor={id} className="block text-small font-semibold">{label}</label>
      {choices
        ? <select id={id} name={name} defaultValue={value} className={look}>{choices.map(([v, word]) => <option key={v} value={v}>{word}</option>)}</select>
        : <input id={id} name={name} defaultValue={value} required={required} type={secret ? 'password' : 'text'} autoComplete={secret ? 'new-password' : 'off'} spellCheck={false} aria-describedby={note ? `${id}-note` : undefined} className={look} />}
      {note && <p id={`${id}-note`} className="mt-0.5 text-small text-ink-2">{note}</p>}
    </div>
  )
}
