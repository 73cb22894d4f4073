import { useMutation } from '@tanstack/react-query'
import { useState, type FormEvent, type ReactNode } from 'react'
import { api, unwrap, type Schemas } from '../api/client'
import { Field, Panel } from './form'
import { Button, Trouble } from './ui'

/** Asks for the reason, then shows a value until it is closed. It is kept nowhere here. */
export function Reveal({ what, asked, trigger }: { what: string; asked: Omit<Schemas['RevealRequest'], 'reason'>; trigger: ReactNode }) {
  const reveal = useMutation({ mutationFn: (reason: string) => unwrap(api.POST('/api/v1/reveal', { body: { ...asked, reason } })), gcTime: 0 })
  const [copied, setCopied] = useState(false)
  return (
    <Panel title={`Reveal ${what}`} trigger={trigger} reset={() => { reveal.reset(); setCopied(false) }}>
      {(close) => reveal.data ? (
        <>
          <pre className="mt-2 max-h-[40vh] overflow-auto rounded-[6px] border border-line bg-paper p-2.5 font-mono text-small break-all whitespace-pre-wrap">{reveal.data.value}</pre>
          <div className="mt-4 flex justify-end gap-2">
            <Button onClick={() => void navigator.clipboard?.writeText(reveal.data.value).then(() => setCopied(true))}>{copied ? 'Copied' : 'Copy'}</Button>
            <Button kind="main" onClick={close}>Hide it</Button>
          </div>
        </>
      ) : (
        <form onSubmit={(e: FormEvent<HTMLFormElement>) => { e.preventDefault(); reveal.mutate(String(new FormData(e.currentTarget).get('reason'))) }}>
          <p className="text-ink-2">Who read it, when and why stays in the audit.</p>
          <Field label="What it is needed for" name="reason" required />
          {reveal.isError && <div className="mt-3"><Trouble error={reveal.error} /></div>}
          <div className="mt-4 flex justify-end gap-2"><Button onClick={close}>Cancel</Button><Button type="submit" kind="main" disabled={reveal.isPending}>Reveal it</Button></div>
        </form>
      )}
    </Panel>
  )
}
