import { create } from 'qrcode';
import { useMemo } from 'react';

/** A QR code (ISO/IEC 18004) drawn as one path, four modules of quiet zone around it. */
export function QrCode({ text, label }: { text: string; label: string }) {
  const { size, path } = useMemo(() => {
    const { modules } = create(text, { errorCorrectionLevel: 'M' });
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
