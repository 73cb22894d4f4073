import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { api, unwrap, type Schemas } from '../api/client'
import { useTemplates } from '../api/queries'
import { Field, PanelForm } from '../parts/form'
import { State } from '../parts/state'
import { Button, Sheet, Trouble } from '../parts/ui'
import { counted, moment } from '../parts/words'

type Library = Schemas['Library']

/** Reads the templates anew once a library was added or read again. */
function useRead<T>(call: (of: T) => Promise<Library>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: call,
    onSuccess: () => {
      for (const key of ['libraries', 'templates', 'template', 'everywhere'])
        void client.invalidateQueries({ queryKey: [key] })
    },
  })
}

/** Where templates come from: folders of the server and git repositories. */
export function Libraries({ may }: { may: boolean }) {
  const list = useQuery({ queryKey: ['libraries'], queryFn: () => unwrap(api.GET('/api/v1/libraries')) })
  const refresh = useRead((name: string) =>
    unwrap(api.POST('/api/v1/libraries/{name}/refresh', { params: { path: { name } } })),
  )
  const templates = useTemplates()
  if (!list.data || list.data.length === 0) return null
  const of = (name: string) => templates.data?.filter((t) => t.origin === name).length ?? 0
  return (
    <div className="mt-3">
      <Sheet title="Libraries" note="folders and repositories that templates come from" pad={false}>
        {refresh.isError && (
          <div className="p-3.5">
            <Trouble error={refresh.error} />
          </div>
        )}
        <table className="w-full">
          <thead>
            <tr>
              <th>Library</th>
              <th>Read</th>
              <th className="max-md:hidden">Place</th>
              <th className="max-md:hidden">Revision</th>
              <th>
                <span className="sr-only">Read again</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.data.map((l) => (
              <tr key={l.name} className="align-top">
                <td className="py-1.5 font-semibold">{l.name}</td>
                <td className="py-1.5 whitespace-normal">
                  <State state={l.problem ? 'failed' : 'done'} word={counted(of(l.name), 'template')} />
                  <span className="block text-small text-ink-2">{l.refreshed_at && moment(l.refreshed_at)}</span>
                  {l.problem && <span className="block text-small text-bad">{l.problem}</span>}
                  {refresh.data?.name === l.name && <WhatWasRead library={refresh.data} />}
                </td>
                <td className="py-1.5 text-small whitespace-normal [overflow-wrap:anywhere] text-ink-2 max-md:hidden">
                  {l.place}
                  {l.folder && `, ${l.folder}`}
                  {l.reference && ` at ${l.reference}`}
                </td>
                <td className="py-1.5 font-mono text-small max-md:hidden">{l.revision.slice(0, 12)}</td>
                <td className="py-1.5 text-right">
                  {may && (
                    <Button
                      small
                      disabled={refresh.isPending}
                      onClick={() => refresh.mutate(l.name)}
                      aria-label={`Read again: ${l.name}`}
                    >
                      Read again
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Sheet>
    </div>
  )
}

/** What a reading found: what it published, and what is wrong with the rest. */
function WhatWasRead({ library }: { library: Library }) {
  const published = library.templates.filter((t) => t.state === 'published').length
  return (
    <div className="text-small" role="status">
      <p>
        {counted(library.templates.length, 'template file')} read,{' '}
        {published === 0 ? 'nothing new' : `${published} new`}
      </p>
      {library.templates
        .filter((t) => t.problem)
        .map((t) => (
          <p key={t.file} className="text-bad [overflow-wrap:anywhere]">
            {t.file}: {t.problem}
          </p>
        ))}
    </div>
  )
}

/** Adds one and reads it, and shows what came of each file. */
export function AddLibrary() {
  const add = useRead((body: Schemas['NewLibrary']) => unwrap(api.POST('/api/v1/libraries', { body })))
  return (
    <PanelForm
      title="Add a library"
      trigger="Add a library"
      about="Every template file in it is checked and published as it is read."
      submit="Add and read it"
      sending={add}
      values={{ name: '', place: '', reference: '', folder: '', user: '', token: '' }}
      onSend={(v, close) =>
        add.mutate(
          {
            name: v.name,
            place: v.place,
            reference: v.reference || undefined,
            folder: v.folder || undefined,
            user: v.user || undefined,
            token: v.token || undefined,
          },
          {
            onSuccess: (l) => {
              if (!l.templates.some((t) => t.problem)) close()
            },
          },
        )
      }
      shown={
        add.data &&
        ((close) => (
          <>
            <WhatWasRead library={add.data} />
            <div className="mt-4 flex justify-end">
              <Button kind="main" onClick={close}>
                Done
              </Button>
            </div>
          </>
        ))
      }
    >
      <Field label="Name" name="name" required note="small letters, digits and hyphens" />
      <Field label="Place" name="place" required note="the address of a git repository, or a folder on the server" />
      <Field label="Branch, tag or commit" name="reference" note="that of the repository itself when left out" />
      <Field label="Folder in it" name="folder" note="the whole of it when left out" />
      <Field label="User" name="user" note="where the repository asks for one" />
      <Field label="Token" name="token" secret note="it is sealed, and opened for this place alone" />
    </PanelForm>
  )
}
