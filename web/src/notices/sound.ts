/** For what this browser makes a sound: its own choice, kept here and not with the account. */
export type Loud = 'none' | 'critical' | 'all'

export const loudness = (): Loud => {
  const kept = localStorage.getItem('kestite-sound')
  return kept === 'critical' || kept === 'all' ? kept : 'none'
}

export const setLoudness = (v: Loud) => localStorage.setItem('kestite-sound', v)

export const mayRing = (severity: string): boolean => loudness() === 'all' || (loudness() === 'critical' && severity === 'critical')

/** Makes the sound of a notice once for all tabs of this browser; says whether this one made it. */
export async function ring(id: number, urgent: boolean): Promise<boolean> {
  const first = () => {
    if (Number(localStorage.getItem('kestite-rung') ?? 0) >= id) return false
    localStorage.setItem('kestite-rung', String(id))
    return true
  }
  // Without a secure origin there are no locks: then two tabs may ring together.
  const mine = 'locks' in navigator ? await navigator.locks.request('kestite-ring', first) : first()
  return mine && (await play(urgent))
}

/** Two notes, or four where it is urgent. False where the browser lets no page make sounds yet. */
export async function play(urgent: boolean): Promise<boolean> {
  const audio = new AudioContext()
  // A browser that waits for a click does not answer before there is one.
  await Promise.race([audio.resume(), new Promise((r) => window.setTimeout(r, 500))])
  if (audio.state !== 'running') {
    await audio.close()
    return false
  }
  const notes = urgent ? [740, 988, 740, 988] : [660, 880]
  notes.forEach((pitch, n) => {
    const at = audio.currentTime + n * 0.18
    const tone = audio.createOscillator()
    const volume = audio.createGain()
    tone.frequency.value = pitch
    volume.gain.setValueAtTime(0.0001, at)
    volume.gain.exponentialRampToValueAtTime(0.25, at + 0.02)
    volume.gain.exponentialRampToValueAtTime(0.0001, at + 0.17)
    tone.connect(volume).connect(audio.destination)
    tone.start(at)
    tone.stop(at + 0.18)
  })
  window.setTimeout(() => void audio.close(), notes.length * 180 + 500)
  return true
}
