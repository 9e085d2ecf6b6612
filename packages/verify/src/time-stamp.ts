import { toHex, type TimeStamp } from '@spoor/core'
import { Integer, OctetString } from 'asn1js'
import {
  AlgorithmIdentifier,
  Certificate,
  id_eContentType_TSTInfo,
  MessageImprint,
  SignedData,
  TimeStampReq,
  TimeStampResp,
  TSTInfo,
} from 'pkijs'

/** Time-stamps of an authority (RFC 3161), asked for and read; in Node and in a browser alike. */

const sha256Id = '2.16.840.1.101.3.4.2.1'
const commonName = '2.5.4.3'
const organisation = '2.5.4.10'

/** What an authority is asked. @param digest SHA-256 of the content @param nonce drawn for this question */
export function timeStampRequest(digest: Uint8Array, nonce: Uint8Array): Uint8Array {
  const request = new TimeStampReq({
    version: 1,
    messageImprint: new MessageImprint({
      hashAlgorithm: new AlgorithmIdentifier({ algorithmId: sha256Id }),
      hashedMessage: new OctetString({ valueHex: bufferOf(digest) }),
    }),
    // A first byte below 128, since it is a number and not to be below zero.
    nonce: new Integer({ valueHex: bufferOf(Uint8Array.from([1, ...nonce])) }),
    certReq: true,
  })
  return new Uint8Array(request.toSchema().toBER(false))
}

/**
 * Reads an authority's answer about some content.
 * @throws Error that says what is wrong with it
 */
export async function readTimeStamp(answer: Uint8Array, content: Uint8Array): Promise<TimeStamp> {
  const response = parsed(() => TimeStampResp.fromBER(bufferOf(answer)))
  const { status, statusStrings } = response.status
  if (!granted.has(Number(status)) || !response.timeStampToken) {
    const words = (statusStrings ?? []).map((one) => one.valueBlock.value).join(' ')
    throw new Error(`The authority refused${words === '' ? '' : `: ${words}`}.`)
  }
  const token = response.timeStampToken
  const signed = parsed(() => new SignedData({ schema: token.content as never }))
  if (signed.encapContentInfo.eContentType !== id_eContentType_TSTInfo || signed.signerInfos.length !== 1)
    throw new Error('It is no time-stamp.')
  const told = signed.encapContentInfo.eContent!
  const info = parsed(() => TSTInfo.fromBER(bufferOf(new Uint8Array(told.getValue()))))
  if (info.messageImprint.hashAlgorithm.algorithmId !== sha256Id) throw new Error('It is not about a SHA-256 digest.')
  const certificate = (signed.certificates ?? []).find((one): one is Certificate => one instanceof Certificate)
  if (!certificate) throw new Error('The authority’s certificate is not in it.')
  // Whose word the certificate is worth is for whoever reads it; that it is the one that signed, is checked here.
  const { signatureVerified, message } = await signed
    .verify({ signer: 0, checkChain: false, data: bufferOf(content), extendedMode: true })
    .catch((error: { message?: string }) => ({ signatureVerified: false, message: error.message ?? '' }))
  if (signatureVerified !== true)
    throw new Error(
      `It is not about this content, or was not signed by that authority${message ? ` (${message})` : ''}.`,
    )
  const names = certificate.subject.typesAndValues
  const named = (type: string) => names.find((one) => one.type === type)?.value.valueBlock.value as string | undefined
  return {
    at: info.genTime.toISOString(),
    by: [named(commonName), named(organisation)].filter(Boolean).join(', ') || 'an authority without a name',
    fingerprint: toHex(
      new Uint8Array(await crypto.subtle.digest('SHA-256', certificate.toSchema(true).toBER(false))),
    ).replace(/(.{4})(?=.)/g, '$1 '),
  }
}

/** `granted` and `grantedWithMods` (RFC 3161, 2.4.2). */
const granted = new Set([0, 1])

function parsed<T>(read: () => T): T {
  try {
    return read()
  } catch {
    throw new Error('It cannot be read as a time-stamp.')
  }
}

/** The bytes alone, whatever they are a part of. */
function bufferOf(bytes: Uint8Array): ArrayBuffer {
  return new Uint8Array(bytes).buffer
}
