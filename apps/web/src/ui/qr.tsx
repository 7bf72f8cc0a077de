import { create, toDataURL, toString } from 'qrcode';
import { useMemo, type ReactNode } from 'react';
import { Button } from 'react-bootstrap';
import { tellFailure } from './notices';

/** As read from a sheet or a screen, also a worn one (ISO/IEC 18004). */
const LEVEL = { errorCorrectionLevel: 'M' } as const;
/** Of a picture that is saved, for print. */
const PNG_WIDTH = 1024;

/** A QR code (ISO/IEC 18004) drawn as one path, four modules of quiet zone around it. */
export function QrCode({ text, label }: { text: string; label: string }) {
  const { size, path } = useMemo(() => {
    const { modules } = create(text, LEVEL);
    let d = '';
    for (let y = 0; y < modules.size; y += 1)
      for (let x = 0; x < modules.size; x += 1) if (modules.get(y, x)) d += `M${x + 4} ${y + 4}h1v1h-1z`;
    return { size: modules.size + 8, path: d };
  }, [text]);
  return (
    <svg className="qr" viewBox={`0 0 ${size} ${size}`} shapeRendering="crispEdges" role="img" aria-label={label}>
      <path d={path} fill="#000" />
    </svg>
  );
}

interface LinkCodeProps {
  link: string;
  title: string;
  /** What else can be done with the link, beside saving its code. */
  children?: ReactNode;
}

/** A link as a code, to be shown and saved. */
export function LinkCode({ link, title, children }: LinkCodeProps) {
  const save = (as: 'svg' | 'png') => void saveQr(link, title, as).catch(tellFailure);
  return (
    <>
      <QrCode text={link} label={`QR code of the link to ${title}`} />
      <div className="d-flex flex-wrap gap-2 mt-1">
        <Button size="sm" variant="plain" onClick={() => save('png')}>
          Save as PNG
        </Button>
        <Button size="sm" variant="plain" onClick={() => save('svg')}>
          Save as SVG
        </Button>
        {children}
      </div>
    </>
  );
}

/** Saves a QR code as a file of its own. */
async function saveQr(text: string, name: string, as: 'svg' | 'png'): Promise<void> {
  const how = { ...LEVEL, margin: 4 };
  const url =
    as === 'png'
      ? await toDataURL(text, { ...how, width: PNG_WIDTH })
      : `data:image/svg+xml;charset=utf-8,${encodeURIComponent(await toString(text, { ...how, type: 'svg' }))}`;
  const link = document.createElement('a');
  link.href = url;
  link.download = `${name.replace(/[\\/:*?"<>|\p{Cc}]+/gu, ' ').trim() || 'Link'}.${as}`;
  link.click();
}
