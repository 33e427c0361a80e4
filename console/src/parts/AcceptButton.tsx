import { useState } from 'react';
import { Dialog, DialogTrigger } from 'react-aria-components';
import styled from 'styled-components';
import { useMay } from '../data/access';
import type { Finding, Problem } from '../data/client';
import { accept, reopen } from '../data/findings';
import { day } from '../data/format';
import { color, space } from '../theme/tokens';
import { Button, Panel } from './Controls';
import { Form, Input } from './Form';

const Sheet = styled.div`padding: ${space(4)}; min-width: 300px; p { margin-bottom: ${space(3)}; color: ${color.soft}; font-size: 15px; }`;

/** The day a month from now, as a field for days has it. */
const inAMonth = () => new Date(Date.now() + 30 * 86_400_000).toISOString().slice(0, 10);

/** Lets a finding be until a day, or opens it again, for who may. */
export function AcceptButton({ f }: { f: Finding }) {
  const may = useMay('operator');
  const [says, setSays] = useState('');
  const what = `${f.code} of ${f.host || f.server || 'Insegna'}`;
  if (!may || f.closed_at || f.under) return null;
  if (f.acceptance) {
    return (
      <>
        <Button aria-label={`Open again: ${what}`} onPress={() => void reopen(f.id).catch((e: unknown) => setSays((e as Problem).detail ?? 'it did not work'))}>Open again</Button>
        {says && <p role="alert">{says}</p>}
      </>
    );
  }
  return (
    <DialogTrigger>
      <Button aria-label={`Accept ${what}`}>Accept…</Button>
      <Panel>
        <Dialog aria-label={`Accept ${what}`}>
          {({ close }) => (
            <Sheet>
              <p>It is left out of lists, counts and messages until the day, and comes back before when it becomes another. What visitors meet stays what it is.</p>
              <Form label="Accept" act="Let it be" onSend={async (v) => { await accept(f.id, v('until'), v('reason')); close(); }}>
                <Input label="Until" name="until" type="date" value={inAMonth()} />
                <Input label="Why" name="reason" hint="Others read it" />
              </Form>
            </Sheet>
          )}
        </Dialog>
      </Panel>
    </DialogTrigger>
  );
}

/** Says until when a finding is let be, by whom and why. */
export function Acceptance({ f }: { f: Finding }) {
  if (!f.acceptance) return null;
  return <p><strong>Accepted until {day(f.acceptance.until)}</strong> by {f.acceptance.by}: {f.acceptance.reason}</p>;
}
