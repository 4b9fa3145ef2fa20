import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useChange } from '../api/changes'
import { api, ask, type Schemas } from '../api/client'
import { Awaited, Trouble } from '../parts/trouble'
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
