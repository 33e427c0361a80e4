import { Link } from 'react-router';
import styled from 'styled-components';
import type { Schemas } from '../data/client';
import { day } from '../data/format';
import { color, font, narrow, radius, space } from '../theme/tokens';

type View = Schemas['AudienceView'];

const Row = styled.ol`
  display: flex; flex-wrap: wrap; align-items: stretch; gap: ${space(2)} 0; list-style: none; padding: 0; margin: ${space(2)} 0 0;
  li { display: flex; align-items: center; min-width: 0; }
  li + li::before { content: ''; width: 34px; flex: none; border-top: 2px solid ${color.ink}; }
  .sign { border: 2px solid ${color.agreed}; border-radius: ${radius}; padding: ${space(2)} ${space(3)}; background: ${color.raised}; max-width: 300px; font-size: 14px; }
  .sign.unsent { border-style: dashed; border-color: ${color.oxide}; }
  .sign.anchor { background: ${color.cobalt}; color: ${color.cream}; }
  .sign.anchor a { color: ${color.cream}; }
  .sign b { font: 600 15px ${font.sign}; display: block; overflow-wrap: anywhere; }
  ${narrow} { flex-direction: column; li { flex-direction: column; align-items: flex-start; } li + li::before { width: 2px; height: 14px; border: 0; background: ${color.ink}; margin-left: 20px; } }
`;

const Verdict = styled.p<{ $fine: boolean }>`font-weight: 600; color: ${(p) => (p.$fine ? color.ink : color.oxide)};`;

/** A certificate's way to an anchor, as one audience sees it. */
export function ChainPicture({ view }: { view: View }) {
  return (
    <section aria-label={`Chain for ${view.audience}`}>
      <Verdict $fine={view.trusted}>{view.trusted ? `Clients (${view.audience}) trust it.` : `Clients (${view.audience}) do not trust it.`}</Verdict>
      {view.failures.length > 0 && <ul>{view.failures.map((f) => <li key={f}>{f}</li>)}</ul>}
      <Row>
        {view.path.map((l, i) => (
          <li key={l.sha256}>
            <div className={`sign${l.anchor ? ' anchor' : l.served || i === 0 ? '' : ' unsent'}`}>
              <b>{l.stored && i > 0 ? <Link to={`/certificates/${l.sha256}`}>{l.common_name}</Link> : l.common_name}</b>
              {l.anchor ? 'anchor' : l.served ? 'sent by the server' : i === 0 ? 'this certificate' : 'not sent by the server'}
              <br />ends {day(l.not_after)}
            </div>
          </li>
        ))}
      </Row>
    </section>
  );
}
