import { useState, type ReactNode } from 'react';
import * as Aria from 'react-aria-components';
import styled from 'styled-components';
import type { Problem } from '../data/client';
import { color, font, radius, space } from '../theme/tokens';
import { Button } from './Controls';

const Fields = styled(Aria.Form)`
  display: grid; gap: ${space(4)}; max-width: 460px;
  .says { color: ${color.oxide}; font-weight: 600; overflow-wrap: anywhere; }
`;

const Field = styled(Aria.TextField)`
  display: grid; gap: ${space(1)};
  label { font: 600 15px ${font.text}; } small { color: ${color.soft}; font-size: 14px; }
  input, textarea { font: 16px ${font.text}; color: ${color.ink}; background: ${color.raised}; border: 1px solid ${color.soft}; border-radius: ${radius}; padding: ${space(2)} ${space(3)}; min-height: 38px; width: 100%; }
`;

/** One line of input with its name above. */
export function Input({ label, name, type = 'text', hint, autoComplete = 'off', value, optional, lines }: { label: string; name: string; type?: string; hint?: string; autoComplete?: string; value?: string; optional?: boolean; lines?: number }) {
  return (
    <Field name={name} type={type} isRequired={!optional} {...(value !== undefined ? { defaultValue: value } : {})}>
      <Aria.Label>{label}</Aria.Label>
      {lines ? <Aria.TextArea rows={lines} spellCheck="false" /> : <Aria.Input autoComplete={autoComplete} spellCheck="false" autoCapitalize="none" />}
      {hint && <Aria.Text slot="description" elementType="small">{hint}</Aria.Text>}
    </Field>
  );
}

/** Fields with the button that sends them; what the service says against it stands above that. */
export function Form({ label, act, keep, onSend, children }: { label: string; act: string; keep?: boolean; onSend: (field: (name: string) => string) => Promise<unknown>; children: ReactNode }) {
  const [says, setSays] = useState('');
  const [busy, setBusy] = useState(false);
  const send = async (data: FormData, form: HTMLFormElement) => {
    setBusy(true);
    setSays('');
    try {
      await onSend((name) => { const v = data.get(name); return typeof v === 'string' ? v : ''; });
      if (!keep) form.reset();
    } catch (e) {
      const p = e as Partial<Problem>;
      setSays([p.detail ?? p.title ?? 'the service does not answer; check that insegna serve is running', ...(p.errors ?? []).map((x) => `${x.place ? `${x.place}: ` : ''}${x.message}${x.expected ? `, expected ${x.expected}` : ''}`), p.next].filter(Boolean).join('; '));
    } finally {
      setBusy(false);
    }
  };
  return (
    <Fields aria-label={label} onSubmit={(e) => { e.preventDefault(); void send(new FormData(e.currentTarget), e.currentTarget); }}>
      {children}
      {says && <p className="says" role="alert">{says}</p>}
      <div><Button type="submit" $main isDisabled={busy}>{act}</Button></div>
    </Fields>
  );
}
