import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { useForm } from '../parts/form'
import { FormEnd } from '../parts/form-end'
import { Awaited, Trouble, showFaults } from '../parts/trouble'
import { useHeading } from '../shell/heading'

type Form = Schemas['SharedForm']['format']

const forms: Record<Form, string> = { pdf: 'PDF', html: 'Page', xlsx: 'Workbook', csv: 'CSV', json: 'JSON', evidence: 'Evidence archive' }

/** A published report by a link, without an account; its token stands behind # and so in no log. */
export function Shared() {
  useHeading()
  const [token] = useState(() => window.location.hash.slice(1))
  const shared = useQuery({ queryKey: ['shared', token], queryFn: () => ask(api.POST('/api/v1/shared', { body: { token } })), enabled: token !== '', staleTime: Infinity })
  const take = useChange<Response, Form>({
    mutationFn: async (format) => {
      const { response, error } = await api.POST('/api/v1/shared/document', { body: { token, format }, parseAs: 'stream' })
      if (error) throw new Error(error.detail ?? 'It cannot be had.')
      return response
    },
    onSuccess: async (response) => {
      const link = document.createElement('a')
      link.href = URL.createObjectURL(await response.blob())
      link.download = /filename="([^"]+)"/.exec(response.headers.get('Content-Disposition') ?? '')?.[1] ?? 'report'
      link.click()
      URL.revokeObjectURL(link.href)
    },
  })
  const r = shared.data
  return (
    <main className="centre">
      <div className="card">
        {token === '' && <Trouble error={new Error('The link is incomplete: open it as it was sent, with what stands behind #.')} />}
        {token !== '' && !r && <Awaited error={shared.error} />}
        {r && (
          <>
            <div>
              <div className="sub">{r.organisation}</div>
              <Typography variant="h1">{r.name}</Typography>
              <div className="sub">
                {r.words}
                {r.customer && `, for ${r.customer}`}
              </div>
            </div>
            <p className="statement">{r.sentence}</p>
            {r.superseded && <Trouble error={new Error('A later report of this period was published; ask for it.')} />}
            <div className="in-a-row tight">
              {(r.forms as Form[]).map((f) => (
                <Button key={f} variant={f === 'pdf' ? 'contained' : 'outlined'} disabled={take.isPending} onClick={() => take.mutate(f)}>
                  {forms[f]}
                </Button>
              ))}
            </div>
            <Trouble error={take.error} />
            {r.objections.map((o) => (
              <div key={o.at} className="sub" data-objection={o.state}>
                You object{o.about ? ` to ${o.about}` : ''}: {o.text} {o.state === 'open' ? 'It is being looked at.' : o.state === 'stands' ? 'The report stands.' : o.state === 'revised' ? 'A revision is made.' : 'It was taken back.'} {o.answer}
              </div>
            ))}
            <ObjectTo token={token} lines={r.lines} />
            {r.seal && (
              <p className="sub">
                Number {r.seal.number} of your reports, code <b>{r.seal.code}</b>: keep it, and no other history can be told of what was published up to it.
              </p>
            )}
          </>
        )}
      </div>
    </main>
  )
}

/** An objection to a line of the report, by who has the link. */
function ObjectTo({ token, lines }: { token: string; lines: string[] }) {
  const [open, setOpen] = useState(false)
  const form = useForm({ defaultValues: { about: '', text: '' } })
  const send = useChange({
    mutationFn: (v: { about: string; text: string }) => ask(api.POST('/api/v1/shared/objections', { body: { token, about: v.about || undefined, text: v.text.trim() } })),
    again: ['shared'],
    onSuccess: () => {
      form.reset()
      setOpen(false)
    },
    onError: (e) => showFaults(e, form.setError),
  })
  const err = form.formState.errors
  if (!open)
    return (
      <button type="button" className="link" onClick={() => setOpen(true)}>
        Object to a line of it
      </button>
    )
  return (
    <form className="form" aria-label="Object" onSubmit={(e) => void form.handleSubmit((v) => send.mutate(v))(e)}>
      <TextField select label="The line" defaultValue="" {...form.register('about')}>
        <MenuItem value="">the whole report</MenuItem>
        {lines.map((l) => (
          <MenuItem key={l} value={l}>
            {l}
          </MenuItem>
        ))}
      </TextField>
      <TextField label="What is wrong with it, and what shows that" multiline minRows={2} error={Boolean(err.text)} helperText={err.text?.message} {...form.register('text', { validate: (v) => v.trim() !== '' || 'Say something' })} />
      <FormEnd error={send.error} busy={send.isPending} save="Object" leave={() => setOpen(false)} />
    </form>
  )
}
