import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import type { Schemas } from '../api/client'
import './layouts.css'

type Person = Schemas['PersonOf']

/** Whom to talk to at a customer. */
export function ContactLines({ value, change, error }: { value: Person[]; change: (list: Person[]) => void; error?: string }) {
  const set = (i: number, field: keyof Person, text: string) => change(value.map((p, n) => (n === i ? { ...p, [field]: text || undefined, name: field === 'name' ? text : p.name } : p)))
  return (
    <fieldset aria-label="Whom to talk to there">
      <legend>Whom to talk to there</legend>
      {value.map((p, i) => (
        <div className="contact-row" key={i}>
          <TextField label="Name" value={p.name} onChange={(e) => set(i, 'name', e.target.value)} />
          <TextField label="Role" value={p.role ?? ''} onChange={(e) => set(i, 'role', e.target.value)} />
          <TextField label="Mail" value={p.mail ?? ''} onChange={(e) => set(i, 'mail', e.target.value)} />
          <TextField label="Phone" value={p.phone ?? ''} onChange={(e) => set(i, 'phone', e.target.value)} />
          <Button variant="text" aria-label={`Take ${p.name || 'this person'} out`} onClick={() => change(value.filter((_, n) => n !== i))}>
            Take out
          </Button>
        </div>
      ))}
      {error && <div className="bad">{error}</div>}
      <div className="in-a-row tight">
        <Button disabled={value.length >= 50} onClick={() => change([...value, { name: '' }])}>
          Add a person
        </Button>
      </div>
    </fieldset>
  )
}
