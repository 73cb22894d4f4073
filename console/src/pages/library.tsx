import { useTemplates } from '../api/queries'
import { Command, Empty, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { span } from '../parts/words'

export default function LibraryPage() {
  const templates = useTemplates()
  return (
    <>
      <PageTitle>Library</PageTitle>
      {templates.isError && <Trouble error={templates.error} retry={() => void templates.refetch()} />}
      {templates.isPending && <Sheet><Loading /></Sheet>}
      {templates.data?.length === 0 && <Sheet><Empty title="The library is empty" command="undersail templates publish FILE">Publish a template; it is checked before it goes in.</Empty></Sheet>}
      <div className="space-y-3">
        {templates.data?.map((t) => (
          <Sheet key={t.name} title={`${t.name} ${t.version}`} note={`${t.maturity}${t.takes_seconds > 0 ? `, takes about ${span(t.takes_seconds)}` : ''}${t.origin ? `, from ${t.origin}` : ''}`}>
            <p className="font-semibold">{t.title}</p>
            <p className="text-ink-2">{t.about}</p>
            <Command text={`undersail propose NAME --template ${t.name} --account ACCOUNT --region REGION --inputs FILE`} />
          </Sheet>
        ))}
      </div>
    </>
  )
}
