import { useQuery } from '@tanstack/react-query'
import { api, unwrap } from '../api/client'
import { Markdown } from './markdown'
import { Command, Sheet } from './ui'

/** The guide of a stack, its certificates, and how its machines are connected to. */
export function Guide({ name }: { name: string }) {
  const guide = useQuery({
    queryKey: ['stack', name, 'guide'],
    queryFn: () => unwrap(api.GET('/api/v1/stacks/{name}/guide', { params: { path: { name } } })),
    retry: false,
  })
  const g = guide.data
  if (!g || (!g.text && g.machines.length === 0)) return null
  return (
    <Sheet title="How to use it">
      {g.text && <Markdown text={g.text} />}
      {g.certificates.map((c) => (
        <p key={c.resource + c.asked} className="mt-2 text-small">
          <span className="text-ink-2">certificate of {c.resource}, SHA-256, as the last check saw it</span>
          <code className="block font-mono break-all">{c.fingerprint}</code>
        </p>
      ))}
      {g.machines.map((m) => (
        <div key={m.resource}>
          <p className="mt-3 text-small text-ink-2">
            connect to {m.resource}
            {m.through && `, through ${m.through}`}
          </p>
          <Command text={m.command} />
        </div>
      ))}
    </Sheet>
  )
}
