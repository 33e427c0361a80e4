import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useMay } from '../data/access';
import type { Problem } from '../data/client';
import { beginHttps } from '../data/https';
import { keepMending, mendingAt, previewMending, type MendRequest } from '../data/installations';
import { color } from '../theme/tokens';
import { Button } from './Controls';

/** Works out how findings are mended and shows that, for who may; what is left for a person is said. */
export function MendButton({ which, label, children }: { which: MendRequest; label?: string; children: string }) {
  const may = useMay('operator');
  const go = useNavigate();
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  if (!may) return null;
  const mend = async () => {
    const plan = await previewMending(which);
    const [installation] = plan.installations;
    const [renewal] = plan.renewals;
    const alone = plan.installations.length + plan.renewals.length + plan.taken.length + plan.left.length === 1;
    if (alone && installation) return go(`/installations/${installation.number}`);
    if (alone && renewal) return go(`/https/${(await beginHttps(renewal.server, renewal.host, renewal.mandate)).number}`);
    if (installation || renewal || plan.taken.length > 0) {
      keepMending(which, plan);
      return go(mendingAt(which));
    }
    setSays(plan.left.map((l) => `${l.reason}; ${l.next}`).join('. '));
  };
  const press = () => {
    setBusy(true);
    setSays('');
    void mend().catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(false));
  };
  return (
    <>
      <Button $main isDisabled={busy} onPress={press} {...(label ? { 'aria-label': label } : {})}>{busy ? 'Working it out…' : children}</Button>
      {says && <p role="alert" style={{ color: color.oxide, flexBasis: '100%' }}>It is not mended from here: {says}.</p>}
    </>
  );
}
