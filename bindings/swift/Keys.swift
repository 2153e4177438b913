// The keys of an app, for Pantry.swift: names, kinds, defaults and rules of what it can store.
//
// NOT COMPILED, like Pantry.swift.

import Foundation
import Mobile

/// A kind of items in a list.
public struct Kind<E> {
    let name: String
    let add: (MobileItems, E) -> Void
    let at: (MobileItems, Int) throws -> E

    func items(_ all: [E]) -> MobileItems {
        let l = MobileNewItems()!
        all.forEach { add(l, $0) }
        return l
    }

    func list(_ l: MobileItems) throws -> [E] { try (0..<l.len()).map { try at(l, $0) } }
}

extension Kind where E == Int {
    public static var int: Kind<Int> {
        Kind(name: "int", add: { l, x in _ = l.addInt(Int64(x)) }, at: { l, i in var x: Int64 = 0; try l.getInt(i, ret0_: &x); return Int(x) })
    }
}

extension Kind where E == Double {
    public static var double: Kind<Double> {
        Kind(name: "float", add: { l, x in _ = l.addFloat(x) }, at: { l, i in var x = 0.0; try l.getFloat(i, ret0_: &x); return x })
    }
}

extension Kind where E == Bool {
    public static var bool: Kind<Bool> {
        Kind(name: "bool", add: { l, x in _ = l.addBool(x) }, at: { l, i in var x: ObjCBool = false; try l.getBool(i, ret0_: &x); return x.boolValue })
    }
}

extension Kind where E == String {
    public static var text: Kind<String> {
        Kind(name: "text", add: { l, x in _ = l.addText(x) }, at: { l, i in try thrown { l.getText(i, error: $0) } })
    }
}

extension Kind where E == Data {
    public static var bytes: Kind<Data> {
        Kind(name: "bytes", add: { l, x in _ = l.addBytes(x) }, at: { l, i in try some { try l.getBytes(i) } })
    }
}

extension Kind where E == Date {
    /// Moments, to the millisecond.
    public static var time: Kind<Date> {
        Kind(name: "time", add: { l, x in _ = l.addTime(millis(x.timeIntervalSince1970)) }, at: { l, i in var x: Int64 = 0; try l.getTime(i, ret0_: &x); return moment(x) })
    }
}

/// A variable on the device as the library has it.
struct Port<T> {
    let get: () throws -> T
    let set: (T) throws -> Void
    let seed: (T) throws -> Void
    let clear: () throws -> Void
    let watch: (MobileRunnerProtocol, MobileHandlerProtocol) throws -> MobileWatching
    var add: ((T) throws -> T)?
    var list: MobileListVar?
}

/// A declared key as the library has it.
struct Form<T> {
    let own: AnyObject
    let parse: (String) throws -> T
    let format: (T) throws -> String
    let bind: (MobileNamespace) throws -> Port<T>
    let within: (MobileBatch) throws -> Port<T>
    /// Converts what Board.swift reads and writes.
    let into: (T) -> Any
    let out: (Any) throws -> T
}

/// What a property of Declared must be, for the key to be declared.
public protocol Declarable { func declare(_ keys: MobileKeys) }

/// A key: a name with a kind and a default.
public final class Key<T>: Declarable {
    public let name: String
    private let make: (MobileKeys) -> Form<T>
    private var made: Form<T>?

    init(_ name: String, _ make: @escaping (MobileKeys) -> Form<T>) {
        self.name = name
        self.make = make
    }

    public func declare(_ keys: MobileKeys) { made = make(keys) }

    func form() throws -> Form<T> {
        guard let made else { throw PantryError("misuse: the key \(name) is not a property of the Declared that was opened") }
        return made
    }

    /// Reads what a user typed. The error has a sentence to show.
    public func parse(_ typed: String) throws -> T { try calling { try form().parse(typed) } }

    /// The inverse of parse: what to show in an input.
    public func format(_ x: T) throws -> String { try calling { try form().format(x) } }
}

/// What an app declares: its keys, each a property. A key of another object can't be used with a namespace or
/// a board that was opened with this one.
open class Declared {
    private let keys = MobileNewKeys()!
    private var declared = false

    public init() {}

    /// Declares the keys that are properties, once.
    func library() -> MobileKeys {
        if !declared {
            declared = true
            var type: Mirror? = Mirror(reflecting: self)
            while let current = type {
                for child in current.children { (child.value as? Declarable)?.declare(keys) }
                type = current.superclassMirror
            }
        }
        return keys
    }
}

extension Key where T == Int {
    public static func int(_ name: String, _ start: Int = 0, in range: ClosedRange<Int>? = nil, about: String = "") -> Key<Int> {
        Key(name) { keys in
            let k = keys.intKey(name, def: Int64(start))!
            if let range { _ = k.between(Int64(range.lowerBound), hi: Int64(range.upperBound)) }
            _ = k.about(about)
            func port(_ v: MobileIntVar) -> Port<Int> {
                Port(get: { var x: Int64 = 0; try v.get(&x); return Int(x) }, set: { try v.set(Int64($0)) }, seed: { try v.seed(Int64($0)) }, clear: v.clear, watch: v.watch,
                     add: { n in var sum: Int64 = 0; try v.add(Int64(n), ret0_: &sum); return Int(sum) })
            }
            return Form(own: k, parse: { s in var x: Int64 = 0; try k.parse(s, x: &x); return Int(x) }, format: { x in try thrown { k.format(Int64(x), error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { Int64($0) }, out: { Int($0 as! Int64) })
        }
    }
}

extension Key where T == Double {
    public static func double(_ name: String, _ start: Double = 0, in range: ClosedRange<Double>? = nil, about: String = "") -> Key<Double> {
        Key(name) { keys in
            let k = keys.floatKey(name, def: start)!
            if let range { _ = k.between(range.lowerBound, hi: range.upperBound) }
            _ = k.about(about)
            func port(_ v: MobileFloatVar) -> Port<Double> {
                Port(get: { var x = 0.0; try v.get(&x); return x }, set: v.set, seed: v.seed, clear: v.clear, watch: v.watch, add: { n in var sum = 0.0; try v.add(n, ret0_: &sum); return sum })
            }
            return Form(own: k, parse: { s in var x = 0.0; try k.parse(s, x: &x); return x }, format: { x in try thrown { k.format(x, error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { $0 }, out: { $0 as! Double })
        }
    }
}

extension Key where T == Bool {
    public static func bool(_ name: String, _ start: Bool = false, about: String = "") -> Key<Bool> {
        Key(name) { keys in
            let k = keys.boolKey(name, def: start)!
            _ = k.about(about)
            func port(_ v: MobileBoolVar) -> Port<Bool> {
                Port(get: { var x: ObjCBool = false; try v.get(&x); return x.boolValue }, set: v.set, seed: v.seed, clear: v.clear, watch: v.watch)
            }
            return Form(own: k, parse: { s in var x: ObjCBool = false; try k.parse(s, x: &x); return x.boolValue }, format: { x in try thrown { k.format(x, error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { $0 }, out: { $0 as! Bool })
        }
    }
}

private final class TextRule: NSObject, MobileTextRuleProtocol {
    private let f: (String) -> String?
    init(_ f: @escaping (String) -> String?) { self.f = f }
    func check(_ text: String?) -> String { f(text ?? "") ?? "" }
}

private func textForm<T>(_ k: MobileTextKey, _ into: @escaping (T) -> String, _ out: @escaping (String) throws -> T) -> Form<T> {
    func port(_ v: MobileTextVar) -> Port<T> {
        Port(get: { try out(try thrown { v.get($0) }) }, set: { try v.set(into($0)) }, seed: { try v.seed(into($0)) }, clear: v.clear, watch: v.watch)
    }
    return Form(own: k, parse: { s in try out(try thrown { k.parse(s, error: $0) }) }, format: { x in try thrown { k.format(into(x), error: $0) } },
                bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: into, out: { try out($0 as! String) })
}

extension Key where T == String {
    /// check returns a sentence for the user that says what is wrong with a text, or nil. sealed encrypts the
    /// stored text, and needs the seal of Pantry.open.
    public static func text(_ name: String, _ start: String = "", sealed: Bool = false, about: String = "", check: ((String) -> String?)? = nil) -> Key<String> {
        Key(name) { keys in
            let k = keys.textKey(name, def: start)!
            _ = k.about(about)
            if let check { _ = k.check(TextRule(check)) }
            if sealed { _ = k.sealed() }
            return textForm(k, { $0 }, { $0 })
        }
    }
}

extension Key where T: RawRepresentable & CaseIterable, T.RawValue == String {
    /// One of an enum's values, stored as its raw text.
    public static func choice(_ name: String, _ start: T, about: String = "") -> Key<T> {
        Key(name) { keys in
            let options = MobileNewTexts()!
            _ = options.add(start.rawValue)
            for other in T.allCases where other.rawValue != start.rawValue { _ = options.add(other.rawValue) }
            let k = keys.choiceKey(name, options: options)!
            _ = k.about(about)
            return textForm(k, { $0.rawValue }, { T(rawValue: $0) ?? start })
        }
    }
}

extension Key where T == Data {
    public static func bytes(_ name: String) -> Key<Data> {
        Key(name) { keys in
            let k = keys.bytesKey(name, def: nil)!
            func port(_ v: MobileBytesVar) -> Port<Data> {
                Port(get: { try some { try v.get() } }, set: v.set, seed: v.seed, clear: v.clear, watch: v.watch)
            }
            return Form(own: k, parse: { s in try some { try k.parse(s) } }, format: { x in try thrown { k.format(x, error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { $0 }, out: { $0 as! Data })
        }
    }
}

extension Key where T == Date {
    /// Moments, to the millisecond.
    public static func time(_ name: String, _ start: Date = Date(timeIntervalSince1970: 0)) -> Key<Date> {
        Key(name) { keys in
            let k = keys.timeKey(name, defMillis: millis(start.timeIntervalSince1970))!
            func port(_ v: MobileTimeVar) -> Port<Date> {
                Port(get: { var x: Int64 = 0; try v.get(&x); return moment(x) }, set: { try v.set(millis($0.timeIntervalSince1970)) }, seed: { try v.seed(millis($0.timeIntervalSince1970)) }, clear: v.clear, watch: v.watch)
            }
            return Form(own: k, parse: { s in var x: Int64 = 0; try k.parse(s, x: &x); return moment(x) }, format: { x in try thrown { k.format(millis(x.timeIntervalSince1970), error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { millis($0.timeIntervalSince1970) }, out: { moment($0 as! Int64) })
        }
    }
}

/// A duration, to the millisecond.
public struct Span: Equatable {
    public var seconds: TimeInterval
    public init(seconds: TimeInterval) { self.seconds = seconds }
}

extension Key where T == Span {
    public static func duration(_ name: String, _ start: Span) -> Key<Span> {
        Key(name) { keys in
            let k = keys.durationKey(name, defMillis: millis(start.seconds))!
            func span(_ ms: Int64) -> Span { Span(seconds: seconds(ms)) }
            func port(_ v: MobileDurationVar) -> Port<Span> {
                Port(get: { var x: Int64 = 0; try v.get(&x); return span(x) }, set: { try v.set(millis($0.seconds)) }, seed: { try v.seed(millis($0.seconds)) }, clear: v.clear, watch: v.watch)
            }
            return Form(own: k, parse: { s in var x: Int64 = 0; try k.parse(s, x: &x); return span(x) }, format: { x in try thrown { k.format(millis(x.seconds), error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { millis($0.seconds) }, out: { span($0 as! Int64) })
        }
    }
}

extension Key {
    /// Lists of items of one kind. keep limits a list to its newest items.
    public static func list<E>(_ name: String, of kind: Kind<E>, keep: Int? = nil, about: String = "") -> Key<[E]> where T == [E] {
        Key<[E]>(name) { keys in
            let k = keys.listKey(name, kind: kind.name)!
            _ = k.about(about)
            if let keep { _ = k.keep(keep) }
            func port(_ v: MobileListVar) -> Port<[E]> {
                Port(get: { try kind.list(v.get()) }, set: { try v.set(kind.items($0)) }, seed: { try v.seed(kind.items($0)) }, clear: v.clear, watch: v.watch, list: v)
            }
            return Form(own: k, parse: { s in try kind.list(k.parse(s)) }, format: { x in try thrown { k.format(kind.items(x), error: $0) } },
                        bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) }, into: { kind.items($0) }, out: { try kind.list($0 as! MobileItems) })
        }
    }
}
