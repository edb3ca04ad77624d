/** The description of a file, as a row holds it. The digest verifies the content; knowing one gives nobody the right to read it. */
export interface FileValue {
  /** A UUID that names the content. */
  readonly id: string;
  /** The SHA-256 of the content, in hexadecimal digits. */
  readonly sha256: string;
  /** The size of the content in bytes. */
  readonly bytes: number;
  /** The media type (RFC 6838): `image/jpeg`. */
  readonly type: string;
  /** The name that a person gave it, without a path. */
  readonly name?: string;
}
