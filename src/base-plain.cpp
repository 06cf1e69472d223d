#include <Rcpp/Lightest>

#include <R_ext/Utils.h>

#include <cstdio>
#include <set>
#include <string>
#include <vector>

namespace {

// As enc2utf8().
SEXP as_utf8(SEXP text) {
  if (text == NA_STRING || Rf_getCharCE(text) == CE_BYTES) return text;
  return Rf_mkCharCE(Rf_translateCharUTF8(text), CE_UTF8);
}

Rcpp::CharacterVector texts_as_utf8(SEXP texts) {
  const R_xlen_t many = Rf_xlength(texts);
  Rcpp::CharacterVector utf8(many);
  for (R_xlen_t i = 0; i < many; ++i) SET_STRING_ELT(utf8, i, as_utf8(STRING_ELT(texts, i)));
  return utf8;
}

// Several texts, or one: of a class of their own, so that they are told from a word.
Rcpp::CharacterVector text_list(SEXP texts) {
  Rcpp::CharacterVector utf8 = texts_as_utf8(texts);
  utf8.attr("class") = "AsIs";
  return utf8;
}

bool has_own_names(SEXP names) {
  const R_xlen_t many = Rf_xlength(names);
  std::set<std::string> known;
  for (R_xlen_t i = 0; i < many; ++i) {
    const SEXP name = STRING_ELT(names, i);
    if (name == NA_STRING || name == R_BlankString) return false;
    if (!known.insert(CHAR(as_utf8(name))).second) return false;
  }
  return many > 0;
}

// The shortest of the usual forms that R reads back as the same number to the last bit.
std::string exact_number(double x) {
  if (R_IsNA(x)) return "NA";
  if (R_IsNaN(x)) return "NaN";
  if (!R_finite(x)) return x > 0 ? "Inf" : "-Inf";
  char text[64];
  std::snprintf(text, sizeof text, "%.15g", x);
  if (R_strtod(text, nullptr) != x) std::snprintf(text, sizeof text, "%a", x);
  return text;
}

std::string value_as_word(SEXP values, R_xlen_t i) {
  if (TYPEOF(values) == REALSXP) return exact_number(REAL(values)[i]);
  const int value = TYPEOF(values) == LGLSXP ? LOGICAL(values)[i] : INTEGER(values)[i];
  if (value == NA_INTEGER) return "NA";
  if (TYPEOF(values) == LGLSXP) return value ? "TRUE" : "FALSE";
  return std::to_string(value);
}

// Row numbers, mostly.
bool is_range(SEXP values) {
  const R_xlen_t many = Rf_xlength(values);
  if (TYPEOF(values) != INTSXP || many <= 3 || INTEGER(values)[0] == NA_INTEGER) return false;
  for (R_xlen_t i = 1; i < many; ++i) {
    if (INTEGER(values)[i] != static_cast<double>(INTEGER(values)[0]) + i) return false;
  }
  return true;
}

Rcpp::List one_named(const char* name, const Rcpp::RObject& value) {
  return Rcpp::List::create(Rcpp::Named(name) = value);
}

const char* type_of_vector(SEXP values) {
  switch (TYPEOF(values)) {
    case STRSXP: return "s";
    case REALSXP: return "n";
    case INTSXP: return "i";
    case LGLSXP: return "l";
    default: return nullptr;
  }
}

Rcpp::List write_vector(SEXP values) {
  if (TYPEOF(values) == STRSXP) return one_named("s", text_list(values));
  std::string words;
  const R_xlen_t many = Rf_xlength(values);
  const bool range = is_range(values);
  for (R_xlen_t i = 0; i < many; i += range ? many - 1 : 1) {
    if (i > 0) words += ' ';
    words += value_as_word(values, i);
  }
  return one_named(range ? "r" : type_of_vector(values), Rcpp::CharacterVector::create(words));
}

bool is_one_word(SEXP x) {
  if (Rf_xlength(x) != 1) return false;
  if (TYPEOF(x) == LGLSXP) return LOGICAL(x)[0] != NA_LOGICAL;
  return TYPEOF(x) == STRSXP && STRING_ELT(x, 0) != NA_STRING;
}

bool is_code(SEXP x) {
  return TYPEOF(x) == SYMSXP || TYPEOF(x) == LANGSXP || TYPEOF(x) == EXPRSXP;
}

// Functions of R that write what is not of the usual kinds; special() may give NULL.
struct Others {
  SEXP special, code, apart;
};

// Code is given to a function as it is, not worked out.
SEXP answer_of(SEXP function, SEXP x) {
  Rcpp::Shield<SEXP> argument(is_code(x) ? Rf_lang2(R_QuoteSymbol, x) : x);
  Rcpp::Shield<SEXP> call(Rf_lang2(function, argument));
  return Rcpp::Rcpp_fast_eval(call, R_BaseEnv);
}

SEXP form_of(SEXP x, const Others& others);

Rcpp::List forms_of(const Rcpp::List& parts, const Others& others) {
  const R_xlen_t many = parts.size();
  Rcpp::List forms(many);
  for (R_xlen_t i = 0; i < many; ++i) {
    SET_VECTOR_ELT(forms, i, Rcpp::Shield<SEXP>(form_of(VECTOR_ELT(parts, i), others)));
  }
  return forms;
}

// As R shows them: a table of one dimension has no names, but names of its dimension.
struct Attributes {
  Rcpp::RObject names;
  Rcpp::List others;

  explicit Attributes(SEXP x) {
    Rcpp::Shield<SEXP> all(answer_of(Rf_install("attributes"), x));
    const SEXP called = Rf_getAttrib(all, R_NamesSymbol);
    for (R_xlen_t i = 0; i < Rf_xlength(all); ++i) {
      const std::string name = CHAR(STRING_ELT(called, i));
      if (name == "names") {
        names = VECTOR_ELT(all, i);
      } else {
        others.push_back(VECTOR_ELT(all, i), name);
      }
    }
  }
};

SEXP form_of(SEXP x, const Others& others) {
  if (TYPEOF(x) == NILSXP) return x;
  if (TYPEOF(x) == LISTSXP) {
    return form_of(Rcpp::Shield<SEXP>(Rf_coerceVector(x, VECSXP)), others);
  }
  if (Rf_isObject(x) || Rf_isFunction(x)) {
    Rcpp::Shield<SEXP> form(answer_of(others.special, x));
    if (TYPEOF(form) != NILSXP) return form;
  }
  if (is_code(x)) return answer_of(others.code, x);
  const bool list = Rf_isNewList(x);
  if (!list && type_of_vector(x) == nullptr) return answer_of(others.apart, x);
  const Attributes attributes(x);
  const bool named = !attributes.names.isNULL();
  if (!named && attributes.others.size() == 0 && is_one_word(x)) {
    return TYPEOF(x) == STRSXP ? SEXP(texts_as_utf8(x)) : x;
  }
  const bool by_name = list && has_own_names(attributes.names);
  Rcpp::List form;
  if (list) {
    Rcpp::List forms = forms_of(x, others);
    if (by_name) forms.names() = texts_as_utf8(attributes.names);
    form = one_named(by_name ? "o" : "list", forms);
  } else {
    form = write_vector(x);
  }
  if (named && !by_name) form.push_back(text_list(attributes.names), "k");
  if (attributes.others.size() > 0) {
    Rcpp::List forms = forms_of(attributes.others, others);
    forms.names() = attributes.others.names();
    form.push_back(forms, "a");
  }
  return form;
}

// A value of a form, or one of its several texts.
struct Part {
  SEXP value;
  R_xlen_t text;  // which one; -1: the value itself
  int up;         // the row of what holds it, from 1
  SEXP name;
};

bool holds_parts(SEXP value) {
  return TYPEOF(value) == VECSXP || (TYPEOF(value) == STRSXP && Rf_isObject(value));
}

const char* kind_of_value(SEXP value) {
  switch (TYPEOF(value)) {
    case NILSXP: return "nothing";
    case STRSXP: return "text";
    case LGLSXP: return "flag";
    case INTSXP:
    case REALSXP: return "number";
    default: Rcpp::stop("a form holds a value that is no text, flag, number or list");
  }
}

SEXP text_of_value(SEXP value) {
  if (TYPEOF(value) == NILSXP) return NA_STRING;
  if (Rf_xlength(value) != 1) Rcpp::stop("a form holds several values without a type");
  return STRING_ELT(Rcpp::Shield<SEXP>(Rf_coerceVector(value, STRSXP)), 0);
}

}  // namespace

// See write_plain(). `special`, `code`, `apart`: functions of one value that give its form.
// [[Rcpp::export(rng = false)]]
SEXP plain_form(SEXP x, SEXP special, SEXP code, SEXP apart) {
  return form_of(x, {special, code, apart});
}

// Lists in one another as columns, what is farther out first: `up`, in which row a part stands
// (0: in none), its name, its kind, and its text. Texts of a class are several, see text_list().
// [[Rcpp::export(rng = false)]]
Rcpp::List flat_form(SEXP form) {
  std::vector<Part> parts{{form, -1, 0, R_BlankString}};
  std::vector<const char*> kinds;
  for (std::size_t row = 0; row < parts.size(); ++row) {
    const Part part = parts[row];
    if (part.text >= 0) {
      kinds.push_back("text");
      continue;
    }
    if (!holds_parts(part.value)) {
      kinds.push_back(kind_of_value(part.value));
      continue;
    }
    const SEXP names = Rf_getAttrib(part.value, R_NamesSymbol);
    const bool named = Rf_xlength(names) > 0;
    kinds.push_back(named ? "named" : "list");
    for (R_xlen_t i = 0; i < Rf_xlength(part.value); ++i) {
      const bool text = TYPEOF(part.value) == STRSXP;
      parts.push_back({text ? part.value : VECTOR_ELT(part.value, i), text ? i : -1,
                       static_cast<int>(row) + 1, named ? STRING_ELT(names, i) : R_BlankString});
    }
  }
  const R_xlen_t many = parts.size();
  Rcpp::IntegerVector up(many);
  Rcpp::CharacterVector name(many), kind(many), text(many);
  for (R_xlen_t row = 0; row < many; ++row) {
    const Part& part = parts[row];
    const bool holds = part.text < 0 && holds_parts(part.value);
    up[row] = part.up;
    SET_STRING_ELT(name, row, part.name);
    SET_STRING_ELT(text, row, part.text >= 0 ? STRING_ELT(part.value, part.text)
                              : holds        ? NA_STRING
                                             : text_of_value(part.value));
    // one that is missing is of several texts
    const bool missing = !holds && STRING_ELT(text, row) == NA_STRING;
    kind[row] = missing ? "nothing" : kinds[row];
  }
  return Rcpp::List::create(Rcpp::Named("up") = up, Rcpp::Named("name") = name,
                            Rcpp::Named("kind") = kind, Rcpp::Named("text") = text);
}
