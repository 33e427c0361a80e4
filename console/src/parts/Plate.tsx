import styled, { css } from 'styled-components';
import type { Schemas, Verdict } from '../data/client';
import { color } from '../theme/tokens';

type Faces = Schemas['Faces'];
type Face = Schemas['Face'];

const Svg = styled.svg<{ $tilted: boolean; $trouble: boolean }>`
  display: block;
  flex: none;
  overflow: visible;
  color: ${(p) => (p.$trouble ? color.oxide : color.agreed)};
  g { transition: transform 0.5s ease-out; transform-origin: 28px 3px; ${(p) => p.$tilted && css`transform: rotate(-7deg);`} }
`;

const windowsAt = [10, 23.5, 37];

function Window({ face, x }: { face: Face; x: number }) {
  const box = { x, y: 13, width: 9, height: 9, strokeWidth: 1.8 };
  switch (face) {
    case 'agrees':
      return <rect {...box} fill="currentColor" stroke="currentColor" />;
    case 'differs':
      return <rect {...box} fill="none" stroke="currentColor" />;
    case 'missing':
      return <rect {...box} fill="none" stroke="currentColor" strokeDasharray="2.5 2" />;
    case 'stale':
      return <><rect {...box} fill="none" stroke={color.line} /><path d={`M${x} 13v9h9z`} fill={color.line} /></>;
    default:
      return <rect {...box} fill={color.line} stroke="none" />;
  }
}

/**
 * The mark of a binding: a hanging sign with three windows, wanted, configured
 * and served. It reads without colour: tilted at odds, cracked broken, dashed
 * frame when nothing can be said.
 */
export function Plate({ faces, verdict, label }: { faces: Faces; verdict: Verdict; label?: string }) {
  const trouble = verdict === 'broken' || verdict === 'at-odds';
  return (
    <Svg width="56" height="32" viewBox="0 0 56 32" role="img" aria-label={`${label ? `${label}: ` : ''}${verdict.replace('-', ' ')}; ${faces.text}`} $tilted={verdict === 'at-odds'} $trouble={trouble}>
      <g>
        <path d="M16 7Q28 -1 40 7" fill="none" stroke={color.soft} strokeWidth="1.2" />
        <rect x="4" y="7" width="48" height="21" rx="3" fill={color.raised} stroke={verdict === 'unknown' ? color.soft : 'currentColor'} strokeWidth="2" strokeDasharray={verdict === 'unknown' ? '4 3' : undefined} />
        {[faces.wanted, faces.configured, faces.served].map((f, i) => (
          <Window key={i} face={f} x={windowsAt[i] ?? 0} />
        ))}
        {verdict === 'broken' && <path d="M33 5l-4 8 4 3-5 6 3 2-3 6" fill="none" stroke={color.raised} strokeWidth="4" />}
        {verdict === 'broken' && <path d="M33 5l-4 8 4 3-5 6 3 2-3 6" fill="none" stroke="currentColor" strokeWidth="1.8" />}
      </g>
    </Svg>
  );
}

const face = (wanted: Face, configured: Face, served: Face): Faces => ({ wanted, configured, served, text: '' });

const Legend = styled.ul`
  display: flex; flex-wrap: wrap; gap: 4px 20px; margin: 0; padding: 0; list-style: none; color: ${color.soft}; font-size: 14px;
  li { display: flex; align-items: center; gap: 8px; }
`;

/** What the plates mean, in one line. */
export function PlateLegend() {
  return (
    <Legend aria-label="How to read the plates: windows are wanted, configured, served">
      <li><Plate faces={face('agrees', 'agrees', 'agrees')} verdict="agreed" /> agreed</li>
      <li><Plate faces={face('agrees', 'agrees', 'differs')} verdict="at-odds" /> at odds</li>
      <li><Plate faces={face('agrees', 'unread', 'missing')} verdict="broken" /> broken</li>
      <li><Plate faces={face('agrees', 'unread', 'unread')} verdict="unknown" /> grey: not read</li>
      <li><Plate faces={face('stale', 'stale', 'stale')} verdict="unknown" /> half grey: not read of late</li>
    </Legend>
  );
}
