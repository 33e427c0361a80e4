import { useState } from 'react';
import styled from 'styled-components';
import type { Schemas } from '../data/client';
import { useWho } from '../data/access';
import { saveBytes } from '../data/format';
import { giveCertificate } from '../data/ways';
import { space } from '../theme/tokens';
import { Choice } from './Controls';
import { Form, Input } from './Form';

const Part = styled.details`margin-top: ${space(3)}; > * + * { margin-top: ${space(3)}; }`;

type Shape = Schemas['GiveRequest']['form'];

const forms: [string, string][] = [['pem', 'PEM, one file'], ['apart', 'PEM, the key apart'], ['pkcs12', 'PKCS#12'], ['pkcs12-old', 'PKCS#12, for old programs'], ['der', 'DER'], ['pkcs7', 'PKCS#7, without key']];

/** Hands a certificate out of the safe with its key, for who may; it stands in the journal. */
export function GiveOut({ order, mandate }: { order: number; mandate: string }) {
  const who = useWho();
  const [form, setForm] = useState('pem');
  const [chain, setChain] = useState('usual');
  const [given, setGiven] = useState<string[]>([]);
  if (!who.data?.keys) return null;
  const twelve = form.startsWith('pkcs12');
  const send = async (f: (name: string) => string) => {
    setGiven([]);
    const files = await giveCertificate(order, {
      form: form.replace(/-old$/, '').replace('apart', 'pem') as Shape, reason: f('reason'), apart: form === 'apart', old: form === 'pkcs12-old', with_root: chain === 'root',
      ...(f('passphrase') ? { passphrase: f('passphrase') } : {}), ...(twelve && f('alias') ? { alias: f('alias') } : {}),
    });
    files.forEach((v) => saveBytes(v.name, v.content));
    setGiven(files.map((v) => v.name));
  };
  return (
    <Part>
      <summary>Take it out, with its key</summary>
      <Choice label="Form" value={form} options={forms} onChange={setForm} />
      {form !== 'der' && <Choice label="Chain" value={chain} options={[['usual', 'As it is sent'], ['root', 'With the root at its end']]} onChange={setChain} />}
      <Form label={`Take the certificate of ${mandate} out`} act="Save it" onSend={send}>
        <Input label="Reason" name="reason" hint="It stands in the journal, with your name." />
        {form !== 'pkcs7' && <Input label="Passphrase" name="passphrase" type="password" optional={!twelve} autoComplete="new-password" hint={twelve ? 'PKCS#12 needs one.' : 'Left empty, the key is not encrypted: keep it where nobody else reads.'} />}
        {twelve && <Input label="Alias" name="alias" optional hint={`Left empty: ${mandate}.`} />}
      </Form>
      {given.length > 0 && <p role="status">Saved: {given.join(', ')}.</p>}
    </Part>
  );
}
