/** A text message that was handed in. */
export interface CaughtText {
  receivedAt: string;
  to: string;
  text: string;
}

/** What a gateway says to whoever asks it. */
export interface GatewaySaid {
  status: number;
  body: string;
}

/** A provider of text messages: it takes a form with a key, a number and a message, and delivers none. */
export class TextBox {
  private readonly messages: CaughtText[] = [];

  constructor(
    private readonly key: string,
    private readonly most = 500,
  ) {}

  /** @param form as it was sent: `key`, `recipient` and `message` */
  take(form: URLSearchParams, at: Date): GatewaySaid {
    const said = (status: number, result: string) => ({ status, body: `${JSON.stringify({ result })}\n` });
    if (form.get('key') !== this.key) return said(401, 'that is not the key');
    const [to, text] = [form.get('recipient') ?? '', form.get('message') ?? ''];
    if (!/^\+\d{5,15}$/.test(to)) return said(422, 'recipient is no number');
    if (text === '' || text.length > 1000) return said(422, 'message has 1 to 1000 characters');
    this.messages.unshift({ receivedAt: at.toISOString(), to, text });
    this.messages.length = Math.min(this.messages.length, this.most);
    return said(202, 'taken');
  }

  list(): readonly CaughtText[] {
    return this.messages;
  }
}
