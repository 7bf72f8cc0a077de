import { LOGO_MOST } from '@quay/contract';

/** Twice as large as it is shown, for screens with small pixels. */
const DRAWN = { width: 480, height: 144 } as const;
/** No logo is larger, and a larger file would be held in memory as text. */
const MOST_FILE_BYTES = 10_000_000;

/**
 * A picture that somebody chose, drawn as small as a logo is shown, as a PNG in base64: what else the file carries stays
 * here.
 * @throws Error with words for whoever chose it
 */
export async function drawnAsLogo(file: File): Promise<string> {
  if (file.size > MOST_FILE_BYTES) throw new Error('That picture is larger than 10 MB. Choose a smaller one.');
  const image = await loaded(file);
  for (let part = 1; part > 0.1; part *= 0.75) {
    const png = drawn(image, part);
    if ((png.length / 4) * 3 <= LOGO_MOST.bytes) return png;
  }
  throw new Error('That picture is too detailed for a logo. Choose a plainer one.');
}

async function loaded(file: File): Promise<HTMLImageElement> {
  const image = new Image();
  image.src = await dataUrl(file);
  await image.decode().catch(() => {
    throw new Error(`${file.name} is no picture that this browser can draw.`);
  });
  return image;
}

function dataUrl(file: File): Promise<string> {
  return new Promise((done, failed) => {
    const reader = new FileReader();
    reader.onload = () => done(String(reader.result));
    reader.onerror = () => failed(new Error(`${file.name} cannot be read.`));
    reader.readAsDataURL(file);
  });
}

/** @param part of the size that it would have at most */
function drawn(image: HTMLImageElement, part: number): string {
  // A drawing in vectors may have no size of its own.
  const [wide, high] = [image.naturalWidth || DRAWN.width, image.naturalHeight || DRAWN.height];
  const scale = Math.min(DRAWN.width / wide, DRAWN.height / high, 1) * part;
  const canvas = document.createElement('canvas');
  canvas.width = Math.max(1, Math.round(wide * scale));
  canvas.height = Math.max(1, Math.round(high * scale));
  const context = canvas.getContext('2d');
  if (!context) throw new Error('This browser does not draw pictures.');
  context.drawImage(image, 0, 0, canvas.width, canvas.height);
  return canvas.toDataURL('image/png').slice('data:image/png;base64,'.length);
}
