import { useState } from 'react';
import type { Problem } from '../data/client';
import { color } from '../theme/tokens';
import { Button } from './Controls';

/** Saves a whole list, however much of it is shown; says so when it could not be read to its end. */
export function SaveButton({ save }: { save: () => Promise<void> }) {
  const [busy, setBusy] = useState(false);
  const [says, setSays] = useState('');
  const go = () => {
    setBusy(true);
    setSays('');
    save().catch((e: unknown) => setSays((e as Partial<Problem> | undefined)?.detail ?? 'the service does not answer')).finally(() => setBusy(false));
  };
  return (
    <>
      <Button isDisabled={busy} onPress={go}>{busy ? 'Reading all of it…' : 'Save as CSV'}</Button>
      {says && <p role="alert" style={{ color: color.oxide }}>Nothing was saved: {says}.</p>}
    </>
  );
}
