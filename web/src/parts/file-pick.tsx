import Button from '@mui/material/Button'
import { useRef } from 'react'

type Props = { label: string; accept: string; taken: (file: { name: string; text: string }) => void }

/** Chooses a text file and gives what is in it; the same one can be chosen again. */
export function FilePick({ label, accept, taken }: Props) {
  const input = useRef<HTMLInputElement>(null)
  return (
    <>
      <Button sx={{ height: 40 }} onClick={() => input.current?.click()}>
        {label}
      </Button>
      <input
        ref={input}
        type="file"
        accept={accept}
        hidden
        onChange={(e) => {
          const chosen = e.target.files?.[0]
          e.target.value = ''
          if (chosen) void chosen.text().then((text) => taken({ name: chosen.name, text }))
        }}
      />
    </>
  )
}
