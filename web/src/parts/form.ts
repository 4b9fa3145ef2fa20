import { useMemo } from 'react'
import { useForm as useLibrary, type FieldValues, type UseFormProps, type UseFormReturn } from 'react-hook-form'

/**
 * A form of the library. What was said of the last attempt is forgotten when it is sent again: the library clears
 * what stands at its fields alone, and what a server says of a list, or of something that has no field here, would
 * keep the form from ever being sent.
 */
export function useForm<T extends FieldValues>(props: UseFormProps<T> = {}): UseFormReturn<T> {
  const form = useLibrary<T>(props)
  // The library's object stays the same and is given another state with each drawing: it is stood before, not copied.
  return useMemo(() => {
    const handleSubmit: typeof form.handleSubmit = (...done) => {
      const send = form.handleSubmit(...done)
      return (e) => {
        form.clearErrors()
        return send(e)
      }
    }
    return Object.create(form, { handleSubmit: { value: handleSubmit } }) as UseFormReturn<T>
  }, [form])
}
