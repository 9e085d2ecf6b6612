import { createTransport, type Transporter } from 'nodemailer'

export interface Mail {
  to: string
  subject: string
  text: string
  html?: string
  /** The same for every try of one message, so that whoever keeps mail can tell. */
  messageId?: string
  /** The message that it follows, in the same thread. */
  inReplyTo?: string
  headers?: Readonly<Record<string, string>>
}

const waitMs = 20_000

/** Sends mail by SMTP. */
export class Mailer {
  readonly #transport: Transporter
  readonly #from: string

  /** @param url `smtp://` or `smtps://`, with a login where there is one */
  constructor(url: string, from: string) {
    this.#from = from
    this.#transport = createTransport({
      url,
      connectionTimeout: waitMs,
      greetingTimeout: waitMs,
      socketTimeout: waitMs,
      // Nothing is read from files or addresses on behalf of a message.
      disableFileAccess: true,
      disableUrlAccess: true,
    })
  }

  /** @throws Error in the words of whoever did not take it */
  async send({ headers, ...mail }: Mail): Promise<void> {
    await this.#transport.sendMail({ from: this.#from, ...mail, ...(headers ? { headers: { ...headers } } : {}) })
  }

  close(): void {
    this.#transport.close()
  }
}
