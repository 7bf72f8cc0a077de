import type { CDPSession, Page, Protocol } from 'puppeteer-core';

/**
 * A device that asks its owner: Chromium's virtual authenticator (W3C Web Authentication, 11: WebDriver extension).
 * Chromium may lose it with the process of a page that goes elsewhere, and then waits for a real one: whoever asks it
 * for something looks first whether it is `there`, with what it has kept.
 */
export class Device {
  private id = '';
  private kept: Protocol.WebAuthn.Credential[] = [];

  private constructor(private readonly session: CDPSession) {}

  static async of(page: Page): Promise<Device> {
    const device = new Device(await page.createCDPSession());
    await device.there();
    return device;
  }

  async there(): Promise<void> {
    const has = await this.session.send('WebAuthn.getCredentials', { authenticatorId: this.id }).catch(() => undefined);
    if (has) this.kept = has.credentials;
    else await this.plugIn();
  }

  private async plugIn(): Promise<void> {
    await this.session.send('WebAuthn.enable');
    const { authenticatorId } = await this.session.send('WebAuthn.addVirtualAuthenticator', {
      options: {
        protocol: 'ctap2',
        transport: 'internal',
        hasResidentKey: true,
        hasUserVerification: true,
        isUserVerified: true,
        automaticPresenceSimulation: true,
      },
    });
    this.id = authenticatorId;
    for (const credential of this.kept)
      await this.session.send('WebAuthn.addCredential', { authenticatorId, credential });
  }
}
