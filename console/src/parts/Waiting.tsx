import { useState } from 'react';
import styled from 'styled-components';
import { useMay } from '../data/access';
import { download, day } from '../data/format';
import type { Order } from '../data/mandates';
import { endOrder, markSent, takeCertificate, takeReply, waitsFor, type Chosen } from '../data/ways';
import { color, font, radius, space } from '../theme/tokens';
import { Bar, Button } from './Controls';
import { FilesField } from './FilesField';
import { Form, Input } from './Form';

const Box = styled.div`
  border: 1px solid ${color.line}; border-left: 6px solid ${color.brassFill}; background: ${color.raised}; padding: ${space(4)}; margin: ${space(4)} 0; display: grid; grid-template-columns: minmax(0, 1fr); gap: ${space(4)};
  pre { font: 13px/1.4 ${font.mono}; max-height: 180px; overflow: auto; margin: 0; padding: ${space(3)}; background: ${color.ground}; border: 1px solid ${color.line}; border-radius: ${radius}; }
  h3 { font-size: 17px; margin: 0 0 ${space(2)}; } p { margin: 0; }
  .two { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(320px, 100%), 1fr)); gap: ${space(5)}; > * { min-width: 0; } }
`;

const none = () => Promise.resolve<Chosen[]>([]);

/** What came back, with the means to send it. */
export function ReplyForm({ order }: { order?: number }) {
  const [read, setRead] = useState<() => Promise<Chosen[]>>(() => none);
  const [taken, setTaken] = useState('');
  const send = async (field: (name: string) => string) => {
    setTaken('');
    const o = await takeReply(await read(), field('passphrase'), order);
    setTaken(`It is the reply to order ${o.number} of ${o.mandate}.`);
  };
  return (
    <>
      <Form label="Bring a reply back" act="Bring it back" onSend={send}>
        <FilesField label="The reply" onChange={(r) => setRead(() => r)} />
        <Input label="Passphrase, where it has one" name="passphrase" type="password" optional />
      </Form>
      {taken && <p role="status">{taken}</p>}
    </>
  );
}

/** Takes a certificate with its key in. */
export function TakeForm() {
  const [read, setRead] = useState<() => Promise<Chosen[]>>(() => none);
  const [words, setWords] = useState<string[]>([]);
  const send = async (field: (name: string) => string) => {
    setWords([]);
    const v = await takeCertificate(await read(), field('passphrase'), field('mandate'));
    setWords([`Taken in as the newest certificate of ${v.order.mandate}, order ${v.order.number}.`, ...v.words.map((w) => `${w.charAt(0).toUpperCase()}${w.slice(1)}.`)]);
  };
  return (
    <>
      <Form label="Take a certificate in" act="Take it in" onSend={send}>
        <FilesField label="Certificate and key" onChange={(r) => setRead(() => r)} />
        <Input label="Passphrase, where they have one" name="passphrase" type="password" optional />
        <Input label="Mandate" name="mandate" optional hint="Whose newest it becomes. Left empty: the one of its names, which is made where there is none." />
      </Form>
      {words.length > 0 && <div role="status">{words.map((w) => <p key={w}>{w}</p>)}</div>}
    </>
  );
}

/** An order that waits for a person: its request, and what is to be done with it. */
export function Waiting({ o }: { o: Order }) {
  const may = useMay('operator');
  const words = waitsFor(o, day);
  return (
    <Box aria-label="Waits for a person" role="group">
      <p><strong>{words.charAt(0).toUpperCase()}{words.slice(1)}.</strong></p>
      {o.request && (
        <div>
          <h3>The request</h3>
          <pre tabIndex={0} aria-label="The certificate request">{o.request}</pre>
          <Bar><Button onPress={() => void navigator.clipboard.writeText(o.request ?? '')}>Copy it</Button><Button onPress={() => download(`${o.mandate}.csr`, 'application/pkcs10', o.request ?? '')}>Save it</Button></Bar>
        </div>
      )}
      {may && (
        <div className="two">
          <div>
            <h3>It was sent</h3>
            <Form label="It was sent" act="Keep that it was sent" onSend={(field) => markSent(o.number, field('to'), field('by'))}>
              <Input label="To whom" name="to" optional hint="As the CA's declaration says, when left empty." />
              <Input label="Reply expected by" name="by" type="date" optional />
            </Form>
          </div>
          <div><h3>The reply is there</h3><ReplyForm order={o.number} /></div>
        </div>
      )}
      {may && <div><Button onPress={() => { if (confirm(`End order ${o.number} and destroy its key? A reply to its request is of no use then.`)) void endOrder(o.number); }}>Give it up</Button></div>}
    </Box>
  );
}
