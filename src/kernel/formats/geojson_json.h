// What readers of GeoJSON share: its text as simdjson has it, and what is wrong with it.
#pragma once
#include <simdjson.h>

#include <algorithm>
#include <string>

#include "../base/error.h"
#include "../io/bytes.h"

namespace civic {

namespace json = simdjson::ondemand;

// Valid JSON whose content is not GeoJSON.
struct NotGeojson {
  std::string what;
};

inline std::string of_feature(std::size_t feature) {
  return feature > 0 ? " (feature " + std::to_string(feature) + ")" : "";
}

// Where a document was read to in its file.
inline std::string byte_of(json::document& document, ByteSpan file) {
  const char* here = nullptr;
  if (document.current_location().get(here) != simdjson::SUCCESS) return "";
  const auto offset = here - reinterpret_cast<const char*>(file.data());
  if (offset < 0 || static_cast<std::size_t>(offset) > file.size()) return "";
  return " near byte " + std::to_string(offset);
}

inline FormatError unreadable(simdjson::error_code code, std::size_t feature, const std::string& byte) {
  using enum simdjson::error_code;
  if (code == INCORRECT_TYPE || code == NO_SUCH_FIELD)
    return FormatError(std::string("it is JSON but not GeoJSON: ") +
                       (code == INCORRECT_TYPE ? "a value is of the wrong type" : "a member is missing") +
                       of_feature(feature) + byte);
  if (code == EMPTY) return FormatError("it is empty, not JSON");
  return FormatError("it is not JSON: " + std::string(simdjson::error_message(code)) + of_feature(feature) + byte);
}

inline std::string type_of(json::object& object) {
  const std::string_view type = object["type"].get_string();
  return std::string(type);
}

// A text without the mark of its byte order.
inline ByteSpan without_mark(ByteSpan text) {
  if (text.size() >= 3 && text[0] == 0xef && text[1] == 0xbb && text[2] == 0xbf) text = text.subspan(3);
  const auto first = std::find_if(text.begin(), text.end(), [](std::uint8_t c) { return c > ' '; });
  if (first == text.end()) throw FormatError("it is empty, not JSON");
  if (*first != '{' && *first != '[') throw FormatError("it is not JSON: it starts with neither '{' nor '['");
  return text;
}

}  // namespace civic
