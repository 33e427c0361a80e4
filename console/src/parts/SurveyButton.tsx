import type { ReactNode } from 'react';
import { useMay } from '../data/access';
import type { Problem } from '../data/client';
import { useStartSurvey } from '../data/surveys';
import { color } from '../theme/tokens';
import { Button } from './Controls';

/** Starts a survey, for who may; says so when it did not begin. */
export function SurveyButton({ main, scope = {}, label, children }: { main?: boolean; scope?: { host?: string; server?: string }; label?: string; children: ReactNode }) {
  const may = useMay('operator');
  const start = useStartSurvey();
  if (!may) return null;
  const problem = start.error as Partial<Problem> | null;
  return (
    <>
      <Button $main={main ?? false} isDisabled={start.isPending} onPress={() => start.mutate({ body: scope })} {...(label ? { 'aria-label': label } : {})}>{children}</Button>
      {start.isError && <p role="alert" style={{ color: color.oxide }}>The survey did not begin: {problem?.detail ?? 'the service does not answer'}.{problem?.next && ` ${problem.next}.`}</p>}
    </>
  );
}
