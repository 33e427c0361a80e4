import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useMay } from '../data/access';
import type { Finding, Problem } from '../data/client';
import { beginHttps } from '../data/https';
import { previewMending } from '../data/installations';
import { color } from '../theme/tokens';
import { Button } from './Controls';

/** Works out how a finding is mended and shows that; for who may, and where it mends itself. */
export function MendButton({ f }: { f: Finding }) {
  const may = useMay('operator');
  const go = useNavigate();
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  if (!may || !f.mending.can) return null;
  const mend = async () => {
    const plan = await previewMending({ findings: [f.id] });
    const [installation] = plan.installations;
    const [renewal] = plan.renewals;
    if (installation) return go(`/installations/${installation.number}`);
    if (renewal) return go(`/https/${(await beginHttps(renewal.server, renewal.host, renewal.mandate)).number}`);
    setSays(plan.left.map((l) => `${l.reason}; ${l.next}`).join('. '));
  };
  const press = () => {
    setBusy(true);
    setSays('');
    void mend().catch((e: unknown) => { const p = e as Partial<Problem>; setSays([p.detail ?? 'the service does not answer', p.next].filter(Boolean).join('; ')); }).finally(() => setBusy(false));
  };
  return (
    <>
      <Button $main isDisabled={busy} onPress={press} aria-label={`Mend ${f.code} of ${f.host || f.server}`}>{busy ? 'Working it out…' : 'Mend'}</Button>
      {says && <p role="alert" style={{ color: color.oxide, flexBasis: '100%' }}>It is not mended from here: {says}.</p>}
    </>
  );
}
