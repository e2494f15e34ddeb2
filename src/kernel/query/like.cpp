#include "like.h"

namespace civic {
namespace {

constexpr std::size_t npos = std::string_view::npos;

bool continues(char byte) { return (static_cast<unsigned char>(byte) & 0xC0) == 0x80; }

std::size_t next_character(std::string_view text, std::size_t at) {
  ++at;
  while (at < text.size() && continues(text[at])) ++at;
  return at;
}

// For each length of a beginning of the word, the longest shorter one that it ends with.
std::vector<std::size_t> fallback_of(std::string_view word) {
  std::vector<std::size_t> out(word.size() + 1);
  for (std::size_t i = 1, k = 0; i < word.size(); ++i) {
    while (k > 0 && word[i] != word[k]) k = out[k];
    if (word[i] == word[k]) ++k;
    out[i + 1] = k;
  }
  return out;
}

}  // namespace

LikePattern::LikePattern(std::string_view pattern) {
  for (std::size_t i = 0; i < pattern.size(); ++i) {
    const bool escapes = pattern[i] == '\\' && i + 1 < pattern.size();
    if (!escapes && pattern[i] == '%')
      pieces_.emplace_back();
    else if (!escapes && pattern[i] == '_')
      pieces_.back().stretches.emplace_back();
    else
      pieces_.back().stretches.back() += pattern[escapes ? ++i : i];
  }
  for (Piece& piece : pieces_)
    if (piece.stretches.size() == 1) piece.fallback = fallback_of(piece.stretches[0]);
}

std::size_t LikePattern::end_at(const Piece& piece, std::string_view text, std::size_t from) {
  for (std::size_t k = 0; k < piece.stretches.size(); ++k) {
    if (k > 0) {
      if (from >= text.size()) return npos;
      from = next_character(text, from);
    }
    if (text.substr(from, piece.stretches[k].size()) != piece.stretches[k]) return npos;
    from += piece.stretches[k].size();
  }
  return from;
}

std::size_t LikePattern::end_of_first(const Piece& piece, std::string_view text, std::size_t from) {
  if (piece.stretches.size() > 1) {
    for (; from < text.size(); from = next_character(text, from))
      if (const std::size_t end = end_at(piece, text, from); end != npos) return end;
    return npos;
  }
  const std::string& word = piece.stretches[0];
  for (std::size_t seen = 0; seen < word.size(); ++from) {
    if (from >= text.size()) return npos;
    while (seen > 0 && text[from] != word[seen]) seen = piece.fallback[seen];
    if (text[from] == word[seen]) ++seen;
  }
  return from;
}

// Whether the last piece ends the text, at or behind a byte.
bool LikePattern::last_matches(std::string_view text, std::size_t from) const {
  const Piece& piece = pieces_.back();
  if (piece.stretches.size() == 1) return text.substr(from).ends_with(piece.stretches[0]);
  for (; from < text.size(); from = next_character(text, from))
    if (end_at(piece, text, from) == text.size()) return true;
  return false;
}

bool LikePattern::matches(std::string_view text) const {
  std::size_t at = end_at(pieces_.front(), text, 0);
  if (pieces_.size() == 1) return at == text.size();
  for (std::size_t k = 1; k + 1 < pieces_.size() && at != npos; ++k) at = end_of_first(pieces_[k], text, at);
  return at != npos && last_matches(text, at);
}

}  // namespace civic
