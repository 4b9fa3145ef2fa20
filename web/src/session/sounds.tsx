import Button from '@mui/material/Button'
import MenuItem from '@mui/material/MenuItem'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { useState } from 'react'
import { loudness, play, setLoudness, type Loud } from '../notices/sound'

/** Whether this browser makes a sound when something arrives in the inbox. */
export function Sounds() {
  const [loud, setLoud] = useState(loudness)
  const [heard, setHeard] = useState<boolean>()
  return (
    <section className="part">
      <Typography variant="h2" sx={{ mt: 3, mb: 1 }}>
        Sound
      </Typography>
      <p className="sub">What notice plans tell you shows on every page of Kestite that is open, and can be heard. This is kept in this browser alone.</p>
      <div className="in-a-row">
        <TextField
          select
          label="A sound for"
          value={loud}
          sx={{ width: 230 }}
          onChange={(e) => {
            setLoudness(e.target.value as Loud)
            setLoud(e.target.value as Loud)
          }}
        >
          <MenuItem value="none">nothing</MenuItem>
          <MenuItem value="critical">what is critical</MenuItem>
          <MenuItem value="all">everything</MenuItem>
        </TextField>
        <Button sx={{ height: 40 }} onClick={() => void play(false).then(setHeard)}>
          Let me hear it
        </Button>
      </div>
      {heard !== undefined && <p role="status">{heard ? 'That was it. If you heard nothing, look at the volume.' : 'This browser lets no page make sounds. Allow it for this address, and try again.'}</p>}
    </section>
  )
}
