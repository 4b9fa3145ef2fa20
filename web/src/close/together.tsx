import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import { useQuery } from '@tanstack/react-query'
import { useRef } from 'react'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { Trouble } from '../parts/trouble'
import { closePath, type Page, type Question } from './queries'

const beat = 20_000 // ms: how often a screen says that it is there

/** Who sees to a close, and who else has it on the screen. */
export function Together({ c }: { c: Page }) {
  const path = closePath(c)
  const visit = useQuery({ queryKey: ['visit-close', c.agreement.id, c.period.name], queryFn: () => ask(api.POST('/api/v1/closes/{id}/visit', path)), refetchInterval: beat, retry: false })
  const people = useQuery({ queryKey: ['incident-people'], queryFn: () => ask(api.GET('/api/v1/incidents/people')).then((l) => l.items) })
  const own = useChange({ again: 'all', mutationFn: (person: string) => ask(api.PUT('/api/v1/closes/{id}/owner', { ...path, body: { person: person || undefined } })) })
  const others = visit.data?.others ?? []
  // Whoever owns it stands there before the others are known: what comes later moves nothing.
  const list = people.data ?? (c.owner ? [{ id: c.owner.id, name: c.owner.name }] : [])
  return (
    <div className="together">
      {c.may_answer ? (
        <TextField select label="Sees to it" value={list.some((p) => p.id === c.owner?.id) ? c.owner?.id : ''} onChange={(e) => own.mutate(e.target.value)} disabled={own.isPending} slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}>
          <MenuItem value="">nobody yet</MenuItem>
          {list.map((p) => (
            <MenuItem key={p.id} value={p.id}>
              {p.name}
            </MenuItem>
          ))}
        </TextField>
      ) : (
        <span className="sub">{c.owner ? `${c.owner.name} sees to it` : ''}</span>
      )}
      {others.length > 0 && (
        <span className="sub" role="status" data-others>
          {others.join(', ')} {others.length === 1 ? 'is' : 'are'} here too
        </span>
      )}
      <Trouble error={own.error} />
    </div>
  )
}

/** What was attached to a question, and attaching more. */
export function Files({ c, q }: { c: Page; q: Question }) {
  const input = useRef<HTMLInputElement>(null)
  const path = (file: number) => ({ params: { path: { id: c.agreement.id, file }, query: { period: c.period.name } } })
  const attach = useChange({
    again: 'all',
    mutationFn: (file: File) =>
      ask(api.POST('/api/v1/closes/{id}/files', { params: { path: { id: c.agreement.id }, query: { period: c.period.name, key: q.key, name: file.name } }, body: file as unknown as string, bodySerializer: (b) => b as unknown as BodyInit, headers: { 'Content-Type': 'application/octet-stream' } })),
  })
  const drop = useChange({ again: 'all', mutationFn: (file: number) => ask(api.DELETE('/api/v1/closes/{id}/files/{file}', path(file))) })
  if (!c.may_answer && q.files.length === 0) return null
  return (
    <section aria-label="Attached" className="attached">
      {q.files.map((f) => (
        <div key={f.id} data-file={f.name}>
          <a className="link" href={`/api/v1/closes/${c.agreement.id}/files/${f.id}?period=${encodeURIComponent(c.period.name)}`} download>
            {f.name}
          </a>{' '}
          <span className="sub">
            {Math.max(1, Math.round(f.bytes / 1024))} kB, {f.by}
          </span>{' '}
          {c.may_answer && (
            <button type="button" className="link" aria-label={`Take ${f.name} away`} onClick={() => drop.mutate(f.id)}>
              take away
            </button>
          )}
        </div>
      ))}
      {c.may_answer && (
        <>
          <Button variant="text" disabled={attach.isPending} onClick={() => input.current?.click()}>
            Attach a file
          </Button>
          <input
            ref={input}
            type="file"
            aria-label="Attach a file"
            hidden
            onChange={(e) => {
              const chosen = e.target.files?.[0]
              e.target.value = ''
              if (chosen) attach.mutate(chosen)
            }}
          />
        </>
      )}
      <Trouble error={attach.error ?? drop.error} />
    </section>
  )
}
