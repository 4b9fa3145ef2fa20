import Button from '@mui/material/Button'
import { useRef } from 'react'
import { useChange } from '../api/changes'
import { api, ask } from '../api/client'
import { Trouble } from '../parts/trouble'
import './layouts.css'

const most = 1 << 20 // bytes, as the server takes

/** Uploads a logo and gives the digest that names it. */
export function LogoPick({ label, value, change, error }: { label: string; value: string; change: (digest: string) => void; error?: string }) {
  const input = useRef<HTMLInputElement>(null)
  const load = useChange({
    mutationFn: async (file: File) => {
      if (file.size > most) throw new Error(`${file.name} is ${Math.ceil(file.size / 1024)} kB; 1024 kB are the most. Save it smaller.`)
      return ask(api.POST('/api/v1/logos', { body: file as never, bodySerializer: (b: unknown) => b as BodyInit, headers: { 'Content-Type': 'application/octet-stream' } }))
    },
    onSuccess: ({ digest }) => change(digest),
  })
  return (
    <div className="logo-pick">
      <span className="sub">{label}</span>
      {value && <img src={`/api/v1/logos/${value}`} alt={label} />}
      <Button disabled={load.isPending} onClick={() => input.current?.click()}>
        {value ? 'Take another picture' : 'Take a picture'}
      </Button>
      {value && (
        <Button variant="text" onClick={() => change('')}>
          Without
        </Button>
      )}
      <input
        ref={input}
        type="file"
        accept="image/png,image/jpeg,image/gif"
        aria-label={label}
        hidden
        onChange={(e) => {
          const chosen = e.target.files?.[0]
          e.target.value = ''
          if (chosen) load.mutate(chosen)
        }}
      />
      {error && <span className="bad">{error}</span>}
      <Trouble error={load.error} />
    </div>
  )
}
