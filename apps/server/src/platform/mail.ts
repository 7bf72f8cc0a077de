import { Inject, Injectable } from '@nestjs/common';
import { createTransport, type Transporter } from 'nodemailer';
import { CONFIG, type Config } from './config.js';
import { log } from './log/log.js';

export interface Notice {
  to: string;
  subject: string;
  text: string;
}

/** Hands notices to the mail server over SMTP. A notice that cannot be handed in is logged, and stops nothing. */
@Injectable()
export class Mail {
  private readonly transport: Transporter | null;

  constructor(@Inject(CONFIG) config: Config) {
    this.transport = config.smtpUrl ? createTransport(config.smtpUrl) : null;
  }

  async send(notice: Notice): Promise<boolean> {
    if (!this.transport) return false;
    try {
      await this.transport.sendMail({ from: '"Lockfast Quay" <quay@saltmarsh.example>', ...notice });
      return true;
    } catch (error) {
      log.warn({ err: error }, 'a notice could not be handed to the mail server');
      return false;
    }
  }
}
