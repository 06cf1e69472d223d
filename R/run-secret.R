# The secret of a run that workers elsewhere take part in. It is in the file that they need, next
# to the certificate; only who has it can read what a worker is sent, and only what such a one
# sends is taken. Encryption by AES-256 in counter mode, then HMAC-SHA-256 over the ciphertext
# (Bellare & Namprempre 2000), by package openssl.

secret_begins <- "-----BEGIN KILNWRIGHT SECRET-----"
secret_ends <- "-----END KILNWRIGHT SECRET-----"

new_secret <- function() {
  need("openssl", "Working with other machines")
  openssl::rand_bytes(32L)
}

# Lines of the file for workers, and the secret out of them.
secret_lines <- function(secret) {
  c(secret_begins, paste(format(as.hexmode(as.integer(secret)), width = 2L), collapse = ""),
    secret_ends)
}

# The lines of a file may be cut off; NULL where there is no whole secret.
secret_of_lines <- function(lines) {
  at <- match(secret_begins, lines)
  if (is.na(at) || !identical(lines[at + 2L], secret_ends)) return(NULL)
  if (!grepl("^[0-9a-f]{64}$", lines[at + 1L])) return(NULL)
  pairs <- substring(lines[at + 1L], seq(1L, 63L, 2L), seq(2L, 64L, 2L))
  as.raw(strtoi(pairs, 16L))
}

key_of <- function(secret, what) as.raw(openssl::sha256(secret, key = charToRaw(what)))

seal_value <- function(x, secret) {
  iv <- openssl::rand_bytes(16L)
  hidden <- as.raw(openssl::aes_ctr_encrypt(serialize(x, NULL), key_of(secret, "hide"), iv))
  message <- c(iv, hidden)
  c(message, as.raw(openssl::sha256(message, key = key_of(secret, "sign"))))
}

# list(value), or NULL: not sealed with this secret. Nothing is unserialised before that is known.
open_sealed <- function(bytes, secret) {
  if (!is.raw(bytes) || length(bytes) <= 48L) return(NULL)
  message <- bytes[seq_len(length(bytes) - 32L)]
  signed <- as.raw(openssl::sha256(message, key = key_of(secret, "sign")))
  if (!identical(signed, bytes[length(message) + 1:32])) return(NULL)
  hidden <- message[-(1:16)]
  # reason: signed with the secret, so made by this run or one of its workers
  list(value = unserialize(
    as.raw(openssl::aes_ctr_decrypt(hidden, key_of(secret, "hide"), message[1:16]))
  ))
}
